"""`talk PAGE`: a conversation on a page of a workflow that is on, as a visitor has it."""

import json
import secrets
import sys
import uuid
from typing import Any
from urllib.parse import quote

import httpx

from oak_relay.cli.output import OUT, escaped, working
from oak_relay.client import Client
from oak_relay.client.calls import refused, trusted

_QUIET = 2.0
"""Seconds of silence behind an answer after which nothing more is waited for."""
_LONGEST = 120.0
"""Seconds that an answer may take."""


class Visitor:
    """Somebody on a page, known by a key."""

    def __init__(self, url: str, path: str, opens: str = "") -> None:
        headers = {"X-Visitor": secrets.token_urlsafe(24), **({"X-Page-Key": quote(opens)} if opens else {})}
        self._http = httpx.Client(
            base_url=f"{url}/talk/{path}", headers=headers, timeout=30, trust_env=False, verify=trusted(True)
        )
        self._last = -1

    def about(self) -> dict[str, Any]:
        """What the page looks like. Raises `Problem`."""
        return dict(self._asked("GET", "/about").json())

    def say(self, text: str, choice: str | None) -> list[dict[str, Any]]:
        """Say something, and what is said in answer. Raises `Problem`."""
        body = {"id": uuid.uuid4().hex, "text": text, **({"choice": choice} if choice else {})}
        mine = self._asked("POST", "/messages", json=body).json()["seq"]
        self._last = max(self._last, mine)
        return list(self._heard())

    def _asked(self, method: str, path: str, **more: Any) -> httpx.Response:
        answer = self._http.request(method, path, **more)
        if answer.status_code >= 400:
            raise refused(answer)
        return answer

    def _heard(self) -> "list[dict[str, Any]]":
        """What is said by us from now on, until nothing is being made of what was said."""
        found: list[dict[str, Any]] = []
        busy, event = False, ""
        timeout = httpx.Timeout(30, read=_QUIET)
        for _ in range(int(_LONGEST / _QUIET)):
            try:
                with self._http.stream("GET", f"/stream?after={self._last}", timeout=timeout) as stream:
                    for line in stream.iter_lines():
                        event = line.removeprefix("event: ") if line.startswith("event: ") else event
                        if not line.startswith("data: "):
                            continue
                        told = line.removeprefix("data: ")
                        if event == "said":
                            one = json.loads(told)
                            self._last = one["seq"]
                            found += [one] if one["side"] == "us" else []
                        elif event == "answering":
                            busy = told == "true"
                            if not busy:
                                return found
            except httpx.ReadTimeout:
                if found and not busy:
                    return found
        return found


def talk_on_page(client: Client, path: str, opens: str, as_json: bool) -> int:
    """Talk on a page, line by line, until the input ends; with JSON a line for each answer. A number is the button of that number."""
    visitor = Visitor(client.url, path, opens)
    about = visitor.about()
    if not as_json:
        OUT.print(f"[bold]{escaped(about['title'])}[/] [dim]{escaped(client.url)}/talk/{path}[/]")
        if about["greeting"]:
            OUT.print(escaped(about["greeting"]))
    buttons: list[str] = []
    while True:
        try:
            line = input("> " if sys.stdin.isatty() else "").strip()
        except EOFError:
            return 0
        if not line:
            return 0
        choice = (
            buttons[int(line[:4]) - 1]
            if line.isascii() and line.isdigit() and 0 < int(line[:4]) <= len(buttons)
            else None
        )
        with working("…"):
            told = visitor.say(choice or line, choice)
        buttons = told[-1]["buttons"] if told else []
        for one in told:
            if as_json:
                print(json.dumps(one, ensure_ascii=False), flush=True)
                continue
            OUT.print(escaped(one["text"]))
            for file in one["files"]:
                OUT.print(f"[dim]{escaped(file['name'])} {escaped(client.url + file['address'])}[/]")
        if buttons and not as_json:
            OUT.print("[dim]" + escaped("  ".join(f"{n}. {one}" for n, one in enumerate(buttons, 1))) + "[/]")
        if not told and not as_json:
            OUT.print("[dim]nothing was said yet[/]")
