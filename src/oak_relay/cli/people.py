"""`tray`, `answer`, `schedules`, `pause`, `fire`, `publish`: what waits for people, what comes when."""

import argparse
import sys
import uuid
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

from oak_relay import jsontext
from oak_relay.cli.finding import found
from oak_relay.cli.output import OUT, escaped, marked, moment, show, table
from oak_relay.client import Client
from oak_relay.client.errors import OakRelayError
from oak_relay.client.results import Question


def add(commands: Any, client: Callable[[argparse.Namespace], Client]) -> None:
    """The parsers of these commands."""
    parser = commands.add_parser("tray", help="what waits for a person", epilog="example: oak-relay tray")
    parser.add_argument("--state", default="open", choices=["open", "answered", "expired", "withdrawn"])
    parser.set_defaults(run=lambda a: tray_cmd(a, client(a)))

    parser = commands.add_parser(
        "answer",
        help="answer a question of the tray",
        epilog="""examples: oak-relay answer 3f2a approve; oak-relay answer 3f2a --data '{"sum": 12}'; oak-relay answer 3f2a""",
    )
    parser.add_argument("id", help="a question's id, or its end")
    parser.add_argument("choice", nargs="?", help="one of its choices; asked for when left out")
    parser.add_argument("--data", help="JSON that its form asks for, or what a call gave; - reads standard input")
    parser.add_argument("--text", help="a remark")
    parser.add_argument("--alike", action="store_true", help="answer all open questions of this kind together")
    parser.set_defaults(run=lambda a: answer_cmd(a, client(a)))

    parser = commands.add_parser("schedules", help="what comes when", epilog="example: oak-relay schedules --next 10")
    parser.add_argument("workflow", nargs="?")
    parser.add_argument("--next", type=int, default=3, dest="occurrences", help="occurrences to show of each")
    parser.set_defaults(run=lambda a: schedules_cmd(a, client(a)))

    parser = commands.add_parser(
        "pause", help="pause a schedule or poll", epilog="example: oak-relay pause morning-conditions early"
    )
    parser.add_argument("workflow")
    parser.add_argument("trigger")
    parser.add_argument("--off", action="store_true", help="let it go on")
    parser.set_defaults(run=lambda a: pause_cmd(a, client(a)))

    for name, what in (("hold", "hold all runs that are not over"), ("release", "let held runs go")):
        parser = commands.add_parser(name, help=f"{what} (they are held after a restore of the database)")
        parser.set_defaults(run=lambda a, on=name == "hold": hold_cmd(a, client(a), on))

    parser = commands.add_parser(
        "missing", help="events that were answered and that a restored database does not hold any more"
    )
    parser.add_argument("--forget", action="store_true", help="they were looked after: empty the list")
    parser.set_defaults(run=lambda a: missing_cmd(a, client(a)))

    parser = commands.add_parser("fire", help="make an occurrence of a schedule now")
    parser.add_argument("workflow")
    parser.add_argument("trigger")
    parser.set_defaults(run=lambda a: fire_cmd(a, client(a)))

    parser = commands.add_parser(
        "publish",
        help="publish an event (CloudEvents 1.0)",
        epilog="""example: oak-relay publish booking.changed --data '{"guest": "Ada Fenn"}'""",
    )
    parser.add_argument("type")
    parser.add_argument("--data", default="null", help="JSON; - reads standard input")
    parser.add_argument("--source", default="/cli")
    parser.add_argument("--id", help="the same id of the same source counts once")
    parser.add_argument("--subject")
    parser.set_defaults(run=lambda a: publish_cmd(a, client(a)))


def tray_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Questions that wait for a person."""
    questions = list(client.every(client.tray, arguments.state))
    if show(questions, arguments.json):
        return 0
    for one in client.every(client.broken_credentials) if arguments.state == "open" else ():
        waits = f"; {one.waiting} run{'s wait' if one.waiting != 1 else ' waits'} for it" if one.waiting else ""
        OUT.print(f"[red]✗[/] the credential {one.credential} needs reconnecting: {escaped(one.why)}{waits}")
        OUT.print(f"  oak-relay credential connect {one.credential}", style="dim")
    table(
        ("question", "asked", "workflow", "about", "text", "answers"),
        [
            (str(q.id)[-12:], moment(q.created_at), q.workflow, q.subject or "–", marked(escaped(q.text) + _alike(q)), _answers(q))
            for q in questions
        ],
        "Nothing waits for a person.",
    )  # fmt: skip
    if questions and arguments.state == "open":
        OUT.print(f"answer one: oak-relay answer {str(questions[0].id)[-12:]}", style="dim")
    return 0


def answer_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Answer a question, asked for what is missing."""
    question = _find(arguments.id, client)
    choice, data = arguments.choice, _json(arguments.data)
    if choice is None and question.choices and sys.stdin.isatty():
        OUT.print(escaped(question.text))
        choice = _asked(question.choices)
    count = client.answer(question.id, choice, data, arguments.text, arguments.alike)
    if not show({"answered": count}, arguments.json):
        OUT.print(f"answered {count} question{'s' if count != 1 else ''}")
    return 0


def schedules_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """What comes when."""
    found = list(client.every(client.schedules, arguments.workflow, arguments.occurrences))
    if show(found, arguments.json):
        return 0
    table(
        ("workflow", "trigger", "rule", "zone", "last", "next"),
        [
            (s.workflow, s.trigger, s.rule, s.zone, moment(s.last_at), marked("[yellow]paused[/]" if s.paused else _next(s)))
            for s in found
        ],
        "No schedules. Those of workflows that are on are shown here.",
    )  # fmt: skip
    return 0


def pause_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Pause a trigger in time, or let it go on."""
    found = client.pause_schedule(arguments.workflow, arguments.trigger, not arguments.off)
    if not show(found, arguments.json):
        OUT.print("paused" if found.paused else f"goes on; next {moment(found.next_at)}")
    return 0


def hold_cmd(arguments: argparse.Namespace, client: Client, on: bool) -> int:
    """Hold all runs that are not over, or let held ones go."""
    done = client.hold(on)
    if not show(done, arguments.json):
        OUT.print(f"{next(iter(done.values()))} runs {'held' if on else 'go on'}")
    return 0


def missing_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Events that a restored database does not hold any more."""
    if arguments.forget:
        done = client.forget_missing()
        if not show(done, arguments.json):
            OUT.print(f"{done['forgotten']} events are no longer listed")
        return 0
    found = client.restore()
    listed = list(found.missing)
    page = found
    while page.next is not None:
        page = client.restore(page.next)
        listed += page.missing
    if show(listed, arguments.json):
        return 0
    rows = [(moment(m.answered_at), m.workflow or "–", m.source, m.event_key, str(m.run)[-12:]) for m in listed]
    table(("answered", "workflow", "source", "event", "run"), rows, "No event is missing.")
    if listed:
        OUT.print(
            "Their senders were told that they are kept: have them sent again, then oak-relay missing --forget",
            style="dim",
        )
    if found.held:
        OUT.print(f"{found.held} runs are held: oak-relay release lets them go", style="dim")
    return 0


def fire_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Make an occurrence now."""
    made = client.fire(arguments.workflow, arguments.trigger)
    if not show(made, arguments.json):
        OUT.print(f"run {made.run}" if made.run else made.note)
    return 0


def publish_cmd(arguments: argparse.Namespace, client: Client) -> int:
    """Publish an event (CloudEvents 1.0)."""
    event = {
        "specversion": "1.0",
        "id": arguments.id or str(uuid.uuid4()),
        "type": arguments.type,
        "source": arguments.source,
        "time": datetime.now(UTC).isoformat(),
        "data": _json(arguments.data),
    }
    if arguments.subject:
        event["subject"] = arguments.subject
    [told] = client.publish(event)
    if not show(told, arguments.json):
        OUT.print(f"{'came before' if told['duplicate'] else 'published'}: {told['type']} {told['id']}")
    return 0


def _find(given: str, client: Client) -> Question:
    return found(client.every(client.tray, "open"), given, "open question", "see oak-relay tray")


def _asked(choices: list[str]) -> str:
    for number, choice in enumerate(choices, 1):
        OUT.print(f"  {number}  {escaped(choice)}")
    given = input("choice: ").strip()
    return choices[int(given) - 1] if given.isdigit() and 0 < int(given) <= len(choices) else given


def _json(text: str | None) -> object:
    if text is None:
        return None
    try:
        return jsontext.loads(sys.stdin.read() if text == "-" else text)
    except ValueError as error:
        raise OakRelayError(f"this is not JSON: {error}") from None


def _answers(question: Question) -> str:
    if question.choices:
        return " | ".join(question.choices)
    if question.handed_over:
        return "handed over: oak-relay conversation reply"
    if not question.form:
        return "any words"
    return "form: " + ", ".join((question.form or {}).get("properties", {}))


def _alike(question: Question) -> str:
    return f" [dim](and {question.alike - 1} alike)[/]" if question.alike > 1 else ""


def _next(schedule: Any) -> str:
    text = "\n".join(moment(at) for at in schedule.occurrences) or "never"
    return f"{text}\n[red]{escaped(schedule.fault)}[/]" if schedule.fault else text
