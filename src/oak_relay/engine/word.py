"""Word kept: what an agent says that it has done, held against the calls that succeeded.

Tools of an agent may name phrases that say that they were used (`claims`). Sentences that are like these are claims; a model is asked about
those that are merely near. Each is a span of its own beneath the agent: `/word`, `/word1`, `/word2`.
"""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from oak_relay.agents import AgentSetup
from oak_relay.document import values
from oak_relay.document.errors import StepFailed
from oak_relay.engine import effects
from oak_relay.engine.plan import Node, tool_node
from oak_relay.engine.purse import Purse
from oak_relay.engine.transcript import done
from oak_relay.engine.walking import Walking
from oak_relay.messages import Message

LONGEST = 20_000
"""Letters of an answer that are looked at."""
_ASKED = 5
"""Sentences of one answer that a model is asked about."""
_SAYS, _OTHER = "it was done", "it was not done"


@dataclass(frozen=True, slots=True)
class Unkept:
    """A sentence that says that a tool was used, none of whose calls succeeded."""

    sentence: str
    tool: str

    def as_data(self) -> dict[str, str]:
        """As a result and a transcript hold it."""
        return {"sentence": self.sentence, "tool": self.tool}


async def unkept(
    walk: Walking, node: Node, path: str, setup: AgentSetup, said: str, messages: Sequence[Message], purse: Purse
) -> list[Unkept]:
    """What is claimed and not so. What a memory still holds of earlier messages counts as done too."""
    claims = _open_claims(setup, messages)
    if not claims or not said.strip():
        return []
    given: dict[str, object] = {"text": said[:LONGEST], "claims": claims}
    found = await _asked(walk, node, f"{path}/word", "model.claims", given, purse)
    kept: list[Unkept] = []
    unsure = 0
    for one in sorted(found["claims"], key=lambda one: -one["likeness"]):  # of many the likest are asked about
        claim = Unkept(str(one["sentence"]), str(one["claim"]))
        if not one["sure"] and unsure < _ASKED:  # what is left of an answer full of them counts as claimed
            unsure += 1
            asked = _question(setup, claim, claims[claim.tool])
            if not await _says(walk, node, f"{path}/word{unsure}", asked, purse):
                continue
        kept.append(claim)
    return kept


async def _says(walk: Walking, node: Node, path: str, asked: dict[str, object], purse: Purse) -> bool:
    """Whether a sentence says that something was done; one that nobody can judge (no money is left, no model answers) does."""
    try:
        return bool((await _asked(walk, node, path, "model.label", asked, purse))["label"] == _SAYS)
    except StepFailed:
        walk.go_on()
        return True


def _open_claims(setup: AgentSetup, messages: Sequence[Message]) -> dict[str, list[str]]:
    """The phrases of the tools of which no call succeeded. What one entry of a document stands for is one tool."""
    used = done(messages)
    seen = {tool.index for tool in setup.tools if tool.name in used}
    found: dict[str, list[str]] = {}
    for tool in setup.tools:
        if tool.claims and tool.index not in seen:
            seen.add(tool.index)
            found[tool.name] = list(tool.claims)
    return found


def _question(setup: AgentSetup, claim: Unkept, phrases: Sequence[str]) -> dict[str, object]:
    """What a model is asked about a sentence that is near to a claim."""
    title = next(tool.title for tool in setup.tools if tool.name == claim.tool)
    labels = {
        _SAYS: {"means": f"It says that this was done already: {title or claim.tool}.", "examples": list(phrases)},
        _OTHER: {"means": "It asks, offers, refuses, says that it will be done or that it failed, or something else.", "examples": []},
    }  # fmt: skip
    return {"model": setup.model["name"], "text": claim.sentence, "labels": labels, "otherwise": _OTHER}


async def _asked(
    walk: Walking, node: Node, path: str, action: str, given: dict[str, object], purse: Purse
) -> Mapping[str, Any]:
    asking = tool_node(node, action, f"{node.name}/{path.rpartition('/')[2]}")
    hash_ = values.digest(node.digest, values.dumps(given))
    found: Mapping[str, Any] = await effects.act(walk, asking, path, given, hash_, {"input": given}, purse)
    return found


def words(text: str, data: object) -> str:
    """What an answer says: its text, or of data the texts in it, one beneath the other."""
    return text if data is None else "\n".join(_texts(data))


def _texts(data: object) -> Iterator[str]:
    if isinstance(data, str):
        yield data
    elif isinstance(data, dict):
        for value in data.values():
            yield from _texts(value)
    elif isinstance(data, list):
        for value in data:
            yield from _texts(value)


def marked(scope: Mapping[str, object], text: str) -> list[dict[str, str]]:
    """What of a text that is said an agent before it claimed, and had not done."""
    found: list[dict[str, str]] = []
    for value in scope.values():
        given = value.get("unkept") if isinstance(value, dict) else None
        for one in given if isinstance(given, list) else ():
            if isinstance(one, dict) and isinstance(one.get("sentence"), str) and one["sentence"] in text:
                found.append({"sentence": one["sentence"], "tool": values.text_of(one.get("tool"))})
    return found[:20]
