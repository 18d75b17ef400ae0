"""`/api/v1/examples`: workflows to begin with, which can be played as they are."""

from dataclasses import dataclass
from functools import lru_cache
from importlib import resources

from fastapi import APIRouter, Response

from oak_relay.document.models import document_of
from oak_relay.document.shapes import sample_of
from oak_relay.document.text import read
from oak_relay.service import exact
from oak_relay.service.lifecycle import save_document
from oak_relay.service.lists import Asks, Page, following
from oak_relay.service.parts import CallerDep, ExactRoute, PartsDep
from oak_relay.service.preconditions import Asked
from oak_relay.service.problems import Problem, missing
from oak_relay.service.runs import StartIn, begin_run, run_of
from oak_relay.service.shapes import ExampleOut, RunOut
from oak_relay.store import workflows

router = APIRouter(route_class=ExactRoute, prefix="/api/v1/examples", tags=["workflows"])
_MODEL = "MODEL"
"""What stands in an example for the name of a model alias."""


@dataclass(frozen=True)
class _Example:
    name: str
    title: str
    note: str
    text: str
    input: object

    @property
    def needs_model(self) -> bool:
        return f"model: {_MODEL}" in self.text


@lru_cache
def _examples() -> dict[str, _Example]:
    found = {}
    for file in sorted(resources.files("oak_relay.service").joinpath("examples").iterdir(), key=lambda f: f.name):
        if file.name.endswith(".yaml"):
            text = file.read_text(encoding="utf-8")
            document = document_of(read(text).data)
            found[document.workflow] = _Example(
                document.workflow, document.title, document.note, text, sample_of(document.input)
            )
    return found


@router.get("")
async def list_examples(parts: PartsDep, _: CallerDep, asked: Asks) -> Page[ExampleOut]:
    """Examples, those that need no model first; the text of one names a model that is there."""
    model = _alias(list((await parts.registry.fresh()).aliases))
    listed = sorted(_examples().values(), key=lambda one: (one.needs_model, len(one.text)))

    def shown(one: _Example) -> ExampleOut:
        return ExampleOut(
            name=one.name,
            title=one.title,
            note=one.note,
            text=_with(one, model),
            needs_model=one.needs_model and model is None,
        )

    return following(listed, asked, lambda one: one.name, shown)


@router.post("/{name}/play", status_code=201, response_model=RunOut)
async def play_example(name: str, parts: PartsDep, who: CallerDep) -> Response:
    """Save an example as a workflow of its name, unless there is one, and start it with its own sample."""
    one = _examples().get(name)
    if one is None:
        raise missing("example", name, f"there is {', '.join(_examples())}")
    model = _alias(list((await parts.registry.fresh()).aliases))
    if one.needs_model and model is None:
        raise Problem(409, "this example asks a model, and there is none", fix="connect a model first", kind="missing")
    async with parts.database.connect() as connection:
        there = await workflows.by_name(connection, parts.workspace, name)
    if there is None:
        await save_document(parts, who, _with(one, model), Asked())
    receipt = await begin_run(StartIn(workflow=name, input=one.input), parts, who)
    return exact.answer(await run_of(parts, receipt.run_id), 201)


def _alias(known: list[str]) -> str | None:
    return next((one for one in ("quick", "careful") if one in known), next(iter(sorted(known)), None))


def _with(one: _Example, model: str | None) -> str:
    return one.text.replace(f"model: {_MODEL}", f"model: {model or 'quick'}")
