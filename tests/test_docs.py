"""Everything that a document can say stands in the docs."""

import re
import subprocess
import sys

import pytest
from pydantic import BaseModel

from oak_relay.actions.catalogue import offer
from oak_relay.document import models
from oak_relay.document.errors import ERROR_KINDS
from oak_relay.document.filters import OWN_FILTERS
from oak_relay.models.agent import AgentInput, Limits, Memory
from oak_relay.models.tools import Tool
from oak_relay.triggers.webhook import Handshake, Verify
from tests.conftest import ROOT

LANGUAGE = (ROOT / "docs" / "language.md").read_text()
AGENTS = (ROOT / "docs" / "agents.md").read_text()
CATALOGUE = offer().catalogue


def words(text: str) -> set[str]:
    """The words that stand in the code marks of a text."""
    marked = re.findall(r"`([^`]+)`", re.sub(r"```\w*\n(.*?)```", r"`\1`", text, flags=re.DOTALL))
    return {word for one in marked for word in re.findall(r"[A-Za-z_][\w.]*", one)}


def keys(*of: type[BaseModel]) -> set[str]:
    return {field.alias or name for model in of for name, field in model.model_fields.items()}


OF_THE_LANGUAGE = {
    "a document": keys(models.Workflow),
    "limits": keys(models.Limits),
    "retries": keys(models.Retry),
    "steps": keys(*models.STEP_MODELS),
    "arms and strands": keys(models.Arm, models.Strand, models.Rounds),
    "questions and events": keys(models.Ask, models.EventWait, models.Emit, models.CallerReply),
    "triggers": {"trigger", "input"}
    | set(CATALOGUE.triggers)
    | keys(*(kind.model for kind in CATALOGUE.triggers.values())),
    "proofs": keys(Verify, Handshake),
    "kinds of errors": set(ERROR_KINDS),
    "filters": set(OWN_FILTERS) - {"join", "replace", "round", "sum", "unique", "list", "string", "filesizeformat"},
    "actions": {action.name for action in CATALOGUE if not action.hidden},
}


@pytest.mark.parametrize("what", OF_THE_LANGUAGE)
def test_the_page_of_the_language_holds_all_of(what):
    assert sorted(OF_THE_LANGUAGE[what] - words(LANGUAGE)) == []


@pytest.mark.parametrize("model", [AgentInput, Limits, Memory, Tool], ids=lambda model: model.__name__)
def test_the_page_of_agents_holds_all_of(model):
    assert sorted(keys(model) - words(AGENTS) - words(LANGUAGE)) == []


def test_the_page_of_actions_is_made_of_their_declarations():
    made = subprocess.run([sys.executable, ROOT / "scripts" / "actions.py"], capture_output=True, text=True, check=True)
    assert made.stdout == (ROOT / "docs" / "actions.md").read_text(), "make actions, and read what changed"
