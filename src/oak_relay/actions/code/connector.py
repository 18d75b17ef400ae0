"""`code.python`: what it is given, what it gives, and what can be said of a source without carrying it out."""

import ast
import mimetypes
from collections.abc import AsyncIterator, Mapping, Sequence

from pydantic import BaseModel, Field

from oak_relay.actions.base import Action, Connector, Fields, Given
from oak_relay.capabilities.given import HeldFile, Result, file_name
from oak_relay.capabilities.protocols import Confined
from oak_relay.document.check_base import WRITTEN, FieldFault
from oak_relay.document.errors import StepFailed
from oak_relay.sandbox.doing import FILES, Put, Work

LONGEST = 50_000


class PythonInput(Fields):
    source: str = Field(
        min_length=1,
        max_length=LONGEST,
        description="Python that defines run(given), or run(given, files); what that returns is what the step gives.",
        examples=["def run(given):\n    return given\n"],
        json_schema_extra={**WRITTEN, "contentMediaType": "text/x-python"},
    )
    given: object = Field(None, description="What run is given.")
    files: dict[str, object] = Field(
        default_factory=dict,
        max_length=FILES,
        description="Files by a name; run is given a path for each: files['plan'].read_text().",
    )


class PythonGave(BaseModel):
    value: object = Field(None, description="What run returned.")
    files: list[dict[str, object]] = Field(
        description="Files that it wrote where it began, in the order of their names."
    )
    printed: str = Field(description="What it printed, the first 20,000 letters.")


def faults(given: Given) -> Sequence[FieldFault]:
    """What is wrong with a source as far as reading it tells."""
    source = given.get("source")
    if not isinstance(source, str) or not source.strip() or len(source) > LONGEST:
        return ()
    try:
        tree = ast.parse(source, "source")
    except SyntaxError as error:
        return [FieldFault("source", f"this is not Python: {error.msg}", "correct the line", error.lineno or 0)]
    except (ValueError, RecursionError, MemoryError, OverflowError):
        return [FieldFault("source", "this cannot be read as Python", "write it more simply")]
    if any(_names_run(one) for one in tree.body):
        return ()
    for one in tree.body:
        if isinstance(one, ast.AsyncFunctionDef) and one.name == "run":
            return [FieldFault("source", "run is async", "write def run, and asyncio.run(…) in it", one.lineno)]
    defined = next((one for one in tree.body if isinstance(one, ast.FunctionDef)), None)
    fix = f"call {defined.name} run" if defined else "write def run(given): …"
    return [FieldFault("source", "it defines no function run", fix, defined.lineno if defined else 0)]


def _names_run(node: ast.stmt) -> bool:
    """Whether a statement may leave something called `run`."""
    if isinstance(node, ast.FunctionDef | ast.ClassDef):
        return node.name == "run"
    if isinstance(
        node, ast.Assign | ast.AnnAssign | ast.Import | ast.ImportFrom | ast.If | ast.Try | ast.With | ast.For
    ):
        return any(
            (isinstance(one, ast.Name) and one.id == "run")
            or (isinstance(one, ast.FunctionDef) and one.name == "run")
            or (isinstance(one, ast.alias) and (one.asname or one.name) == "run")
            for one in ast.walk(node)
        )
    return False


async def _python(given: PythonInput, at: Confined) -> Result:
    put = [await _put(key, value, at) for key, value in given.files.items()]
    work = Work(given.source, given.given, put, at.timeout)

    async def keep(name: str, size: int, pieces: AsyncIterator[bytes]) -> HeldFile:
        called = file_name(name)
        return await at.keep(called, mimetypes.guess_type(called)[0] or "application/octet-stream", pieces)

    try:
        done = await at.sandbox.do(work, keep)
    except StepFailed as failed:
        failed.detail = {**failed.detail, "source": given.source}
        raise
    output: Mapping[str, object] = {
        "value": done.value,
        "files": [file.value for file in done.files],
        "printed": done.printed,
    }
    return Result(output, {"printed cut": True} if done.cut else {})


async def _put(key: str, value: object, at: Confined) -> Put:
    file = await at.file(value)
    return Put(key, file_name(file.name), file.size, lambda: at.pieces(file))


async def _lacking(at: Confined) -> str:
    return (await at.sandbox.there()).reason


_EXAMPLE = """def run(given):
    nights = [stay["nights"] for stay in given]
    return {"stays": len(nights), "nights": sum(nights), "longest": max(nights, default=0)}
"""

CONNECTOR = Connector(
    "Code",
    [
        Action(
            "code.python",
            "Carry out a function of your own, in Python",
            PythonInput,
            PythonGave,
            reach="outside",
            timeout=30,
            perform=_python,
            faults=faults,
            example_gives={"value": {"stays": 2, "nights": 7, "longest": 5}, "files": [], "printed": ""},
            example={"source": _EXAMPLE, "given": "${ input.stays }"},
            first=("source", "given", "files"),
            tell="$.value",
        )
    ],
    lacking=_lacking,
)
