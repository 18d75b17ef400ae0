"""A trace as a tree: times, attempts, money."""

from datetime import datetime
from typing import Any

from rich.tree import Tree

from oak_relay import jsontext
from oak_relay.cli.output import OUT, counted, duration, escaped, moment, money, state
from oak_relay.client.results import Attempt, Line, RunData, RunDetail, Span, Trace
from oak_relay.engine.paths import EntryPath


def place_of(run: RunData) -> str:
    """From where a run was run again."""
    return {"start": "from the start", "failure": "from where it failed"}.get(run.origin_how or "", "from a step")


def head(detail: RunDetail) -> None:
    """What a run is and how it went."""
    run = detail.run
    OUT.print(f"{state(run.state)}  [bold]{run.workflow}[/] version {run.version}  [dim]{run.id}[/]")
    about = f"about {escaped(run.subject)}, " if run.subject else ""
    if run.origin_id:
        OUT.print(f"run again, {place_of(run)}: [dim]{run.origin_id}[/]")
    if run.mended_by:
        OUT.print(f"[green]mended later[/] by [dim]{run.mended_by}[/]")
    if run.parent_id:
        OUT.print(f"started by the run [dim]{run.parent_id}[/]")
    OUT.print(f"{about}started by {run.trigger} at {moment(run.created_at)}, took {duration(run.seconds)}")
    tokens = run.tokens_in + run.tokens_out
    did = [counted(run.steps, "step"), counted(run.attempts, "attempt"), counted(tokens, "token")]
    OUT.print(f"{', '.join(did)}, money {money(run.money, run.unpriced)}")
    if run.error:
        OUT.print(f"[red]{run.error.kind}[/]: {escaped(run.error.message)}")
        if run.error.fix:
            OUT.print(f"[dim]what to do:[/] {escaped(run.error.fix)}")
    if run.note:
        OUT.print(f"[yellow]{escaped(run.note)}[/]")
    if detail.why:
        OUT.print(f"[yellow]{escaped(detail.why)}[/]")


def tree(trace: Trace, full: bool) -> None:
    """Every span under the one it belongs to."""
    spans_tree(trace.spans, {line.trace: line for line in trace.script if line.kind not in ("arm", "strand")}, full)


def spans_tree(spans: list[Span], sentences: dict[str, Line], full: bool) -> None:
    """Spans as a tree, with the sentences of their lines where they are known."""
    root = Tree("[dim]steps[/]", hide_root=True)
    nodes: dict[str, Any] = {}
    for span in spans:
        parent = EntryPath(span.path).parent
        line = sentences.get(span.line)
        label = f"{line.number} {escaped(line.sentence)}" if line and span.kind == "step" else _label(span)
        node = nodes[span.path] = nodes.get(parent, root).add(_line(span, label))
        if len(span.attempts) > 1 or full or span.state == "failed":
            for index, attempt in enumerate(span.attempts):
                node.add(_attempt(attempt, span.attempts[index + 1] if index + 1 < len(span.attempts) else None))
        if full:
            _values(node, span)
    OUT.print(root, soft_wrap=False)


def _label(span: Span) -> str:
    if span.kind in ("item", "part"):
        return escaped(f"{span.kind} {span.path[span.path.rindex('[') :]}")
    if span.kind == "turn":
        said = span.output if isinstance(span.output, dict) else {}
        calls = ", ".join(call["name"] for call in said.get("calls", []))
        text = " ".join(str(said.get("text") or "").split())
        what = f"calls {calls}" if calls else f"says: {text[:90]}{'…' if len(text) > 90 else ''}"
        return escaped(f"turn {int(span.path[span.path.rindex('[') + 1 : -1]) + 1} {what if said else ''}")
    if span.kind == "call":
        detail = (span.attempts[-1].detail or {}) if span.attempts else {}
        given = detail.get("arguments", span.input)
        return escaped(f"{EntryPath(span.path).name} {_brief(given)}")
    if span.kind == "open":
        return "set up"
    return escaped(EntryPath(span.path).place.rpartition(".")[2])


def _brief(value: object) -> str:
    text = jsontext.dumps(value) if value is not None else ""
    return text if len(text) <= 100 else f"{text[:100]}…"


def line(item: Span | RunData) -> str:
    """One line for something that just happened."""
    if isinstance(item, RunData):
        return f"{state(item.state)}  run"
    tries = f"  attempt {len(item.attempts)}" if len(item.attempts) > 1 else ""
    fault = f"  {escaped(item.error.message)}" if item.error else ""
    return f"{state(item.state)}  {item.path}{tries}{fault}"


def _line(span: Span, label: str) -> str:
    took = duration(_seconds(span.started, span.ended)) if span.started else ""
    cost = f"  {span.tokens} tokens, {money(span.money, span.unpriced)}" if span.tokens else ""
    tries = f"  [yellow]{len(span.attempts)} attempts[/]" if len(span.attempts) > 1 else ""
    empty = f"  [yellow]empty: {escaped(', '.join(span.empty))}[/]" if span.empty else ""
    return f"{state(span.state)}  {label}  [dim]{took}{cost}[/]{tries}{empty}"


def _attempt(attempt: Attempt, following: Attempt | None) -> str:
    text = f"{state(attempt.state)}  attempt {attempt.number}  [dim]{duration(_seconds(attempt.started, attempt.ended))}[/]"
    if attempt.error:
        text += f"  [red]{attempt.error.kind}[/] {escaped(attempt.error.message)}"
    if attempt.note:
        text += f"  {escaped(attempt.note)}"
    if following and attempt.ended and following.started:
        text += f"  [dim]then waited {duration((following.started - attempt.ended).total_seconds())}[/]"
    return text


def _values(node: Any, span: Span) -> None:
    for name in ("input", "output"):
        value = getattr(span, name)
        if value is not None:
            text = str(value)
            node.add(f"[dim]{name}[/] {escaped(text if len(text) < 400 else text[:400] + '…')}")
    for one in span.large:
        node.add(f"[dim]{one.bytes // 1024} KB, this is a preview; the whole: oak-relay artifact {one.id}[/]")


def _seconds(started: datetime | None, ended: datetime | None) -> float | None:
    return (ended - started).total_seconds() if started and ended else None
