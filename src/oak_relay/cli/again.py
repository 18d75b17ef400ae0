"""`again`, `try`, `sample`, `refused`: runs done again, steps tried, and what came to try them with."""

import argparse
import time
from collections.abc import Callable, Mapping
from datetime import datetime
from pathlib import Path
from typing import Any
from uuid import UUID

from oak_relay.cli.output import (
    ERR,
    OUT,
    escaped,
    moment,
    more,
    print_json,
    show,
    show_page,
    shown,
    state,
    table,
    working,
)
from oak_relay.cli.runs import find_run
from oak_relay.cli.trace import spans_tree
from oak_relay.cli.workflows import given_json, text_of
from oak_relay.client import Client
from oak_relay.client.errors import OakRelayError
from oak_relay.client.results import Kept, Sample
from oak_relay.document import durations


def add(commands: Any, client: Callable[[argparse.Namespace], Client]) -> None:
    """The parsers of these commands."""
    parser = commands.add_parser(
        "again",
        help="run again: from the start, from where it failed, or from a step",
        epilog="""examples: oak-relay again last; oak-relay again last --from start; oak-relay again last --from reply --check
oak-relay again last --from reply --values '{"kind": {"label": "refund"}}'""",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("ids", nargs="+", metavar="ID", help="runs: ids, any part of them, or `last`")
    parser.add_argument(
        "--from",
        dest="from_",
        default="",
        metavar="PLACE",
        help="start, failure, or the path of a step, such as per_hut[3].findings; left out: from where it failed, or from the start",
    )
    parser.add_argument(
        "--version",
        type=int,
        dest="number",
        help="of the workflow; when left out the one that is on, or the newest while none is",
    )
    parser.add_argument("--input", help="JSON or a file, in the place of what the run was given")
    parser.add_argument("--values", default="{}", help="JSON or a file: in the place of what steps at the top gave")
    parser.add_argument("--check", action="store_true", help="only say what would be kept and what not")
    parser.set_defaults(run=lambda a: again_cmd(a, client(a)))

    parser = commands.add_parser(
        "try",
        help="carry out a step of a draft with samples; nothing kept here is changed",
        epilog="""example: oak-relay try triage.yaml kind --input event.json""",
    )
    parser.add_argument("file", type=Path)
    parser.add_argument("step")
    parser.add_argument("--onwards", action="store_true", help="also what stands behind the step")
    parser.add_argument("--input", default="null", help="JSON, or a file of it")
    parser.add_argument("--sample", default="", help="name of a kept event, in the place of --input")
    parser.add_argument("--steps", default="{}", help="what earlier steps gave: JSON, or a file of it")
    parser.set_defaults(run=lambda a: try_cmd(a, client(a)))
    _samples(commands, client)


def _samples(commands: Any, client: Callable[[argparse.Namespace], Client]) -> None:
    parser = commands.add_parser(
        "sample",
        help="keep an event or a step's result as a sample: a run's, or the next that comes; list samples",
        epilog="""examples: oak-relay sample last --keep refund; oak-relay sample booking-triage
oak-relay sample booking-triage --next site   # waits for the next event, also while the workflow is off""",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("workflow_or_run", help="a workflow, or a run to keep a sample of")
    parser.add_argument("--keep", metavar="NAME", default="", help="keep under this name")
    parser.add_argument(
        "--next",
        metavar="TRIGGER",
        help="wait for the next event of this trigger, and keep it; begins no run if it is off",
    )
    parser.add_argument("--within", default="1h", help="how long to wait for it, such as 10m (default: 1h)")
    parser.add_argument("--step", default="", help="the step whose result is kept; the event when left out")
    parser.set_defaults(run=lambda a: sample_cmd(a, client(a)))

    parser = commands.add_parser(
        "refused", help="what the webhooks of a workflow did not take within a week, and why",
        epilog="example: oak-relay refused booking-triage",
    )  # fmt: skip
    parser.add_argument("workflow")
    parser.add_argument("--limit", type=int, default=20)
    parser.add_argument("--after", help="the next page: what the one before says below")
    parser.set_defaults(run=lambda a: refused_cmd(a, client(a)))


def again_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Run again; say what is kept."""
    data = None if arguments.input is None else given_json(arguments.input)
    given = arguments.from_, arguments.number, data, given_json(arguments.values), arguments.check
    done = [client.again(find_run(one, client), *given) for one in arguments.ids]
    if not show(done if len(done) > 1 else done[0], arguments.json):
        for kept in done:
            _tell(kept)
    return 0


def try_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Carry out a step of a draft with a sample; exit code 1 when it does not succeed."""
    text = text_of(arguments.file)
    given = arguments.step, given_json(arguments.input), given_json(arguments.steps), arguments.onwards
    with working("trying …"):
        tried = client.try_step(text, *given, sample=arguments.sample)
    if show(tried, arguments.json):
        return 0 if tried.state == "succeeded" else 1
    OUT.print(state(tried.state) + (f"  would rest at {tried.waits}" if tried.waits else ""))
    spans_tree(tried.spans, {}, full=True)
    if tried.error:
        OUT.print(f"[red]{tried.error.kind}[/]: {escaped(tried.error.message)}")
    elif tried.state == "succeeded":
        print_json(tried.result)
    return 0 if tried.state != "failed" else 1


def sample_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Keep a step's result of a run, or its event, as a sample."""
    if arguments.next:
        return _next(arguments, client)
    if arguments.keep:
        kept = client.keep_sample(find_run(arguments.workflow_or_run, client), arguments.keep, arguments.step)
        if not show(kept, arguments.json):
            OUT.print(f"kept {arguments.keep}")
        return 0
    found = list(client.every(client.samples, arguments.workflow_or_run))
    if not show(found, arguments.json):
        table(
            ("name", "of", "kept"),
            [(s.name, s.step or "the event", moment(s.created_at)) for s in found],
            "No samples. Keep one of a run: oak-relay sample RUN --keep NAME",
        )
    return 0


def refused_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Deliveries that were not taken."""
    found = client.refusals(arguments.workflow, arguments.limit, arguments.after)
    if not show_page(found, arguments.json):
        table(
            ("when", "status", "why", "at", "from"),
            [(moment(r.at), str(r.status), r.reason, r.path, f"{r.source} {r.agent}".strip()) for r in found],
            "Nothing was refused within a week.",
        )
        more(found)
    return 0


def _next(arguments: argparse.Namespace, client: Client) -> int:
    """Wait for the next event of a trigger; exit code 1 when none comes in time."""
    workflow, seconds = arguments.workflow_or_run, round(_seconds(arguments.within))
    before = {s.id: s.created_at for s in client.every(client.samples, workflow)}
    awaited = client.keep_next(workflow, arguments.next, arguments.keep, seconds)
    trigger = next(t for t in client.every(client.triggers, workflow) if t.trigger == arguments.next)
    ERR.print(f"{escaped(trigger.sentence)}. Waiting for its next event; to the draft it may be sent like this:\n")
    ERR.print(shown(trigger.request), markup=False, soft_wrap=True)
    try:
        with working("waiting …"):
            kept = _came(client, workflow, awaited.sample, before, time.monotonic() + seconds)
    except KeyboardInterrupt:
        kept = None
    if kept is None:
        client.keep_no_longer(workflow, arguments.next)
        raise OakRelayError(f"nothing came; see oak-relay refused {workflow}, or send the request above")
    if not show(kept, arguments.json):
        OUT.print(f"kept as {escaped(kept.name)}; oak-relay try FILE STEP --sample {escaped(kept.name)}")
        print_json(kept.event.data if kept.event else kept.value)
    return 0


def _came(client: Client, workflow: str, name: str, before: Mapping[UUID, datetime], until: float) -> Sample | None:
    """The sample of that name as soon as it is kept anew."""
    while time.monotonic() < until:
        for one in client.every(client.samples, workflow):
            if one.name == name and not one.step and before.get(one.id) != one.created_at:
                return one
        time.sleep(1.0)
    return None


def _seconds(given: str) -> float:
    try:
        return durations.seconds(given)
    except ValueError:
        raise OakRelayError(f"{given} is no length of time; write it as 30s, 10m or 2h") from None


def _tell(kept: Kept) -> None:
    where = {"start": "from the start", "failure": "from where it failed"}.get(kept.from_, f"from {kept.step}")
    OUT.print(f"{escaped(where)}, with version {kept.version}")
    if kept.kept:
        OUT.print(f"kept: {escaped(', '.join(kept.kept))}")
    if kept.anew:
        OUT.print(f"done anew: {escaped(', '.join(kept.anew))}")
    if kept.run:
        OUT.print(f"run {kept.run}")
