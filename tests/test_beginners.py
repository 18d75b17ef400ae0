"""What beginners write: sound documents with one change each. The first finding stands where the change is, and its remedy,
applied literally, makes the document sound."""

from dataclasses import dataclass
from pathlib import Path

import pytest
from ruamel.yaml import YAML

from oak_relay.actions.catalogue import offer
from oak_relay.document.check import check
from oak_relay.document.errors import Finding

HERE = Path(__file__).parent / "beginners"
RIGHT: dict[str, str] = YAML(typ="safe").load(HERE / "right.yaml")
WORLD = offer().catalogue.world(
    models=frozenset({"quick", "careful"}),
    credentials={"booking-site": "signing", "weather": "bearer"},
    tables={
        "huts": ["name", "valley", "bunks"],
        "guests": ["name", "stay"],
        "requests": ["guest", "kind", "outcome", "state", "hut"],
    },
    workflows=frozenset(RIGHT),
)


@dataclass(frozen=True)
class Wrong:
    """One change of a sound document, the words of the remedy, and what a reader then does."""

    of: str
    this: str
    becomes: str
    fix: list[str]
    at: str = ""
    mend: tuple[str, str] | None = None

    @property
    def text(self) -> str:
        """The document."""
        assert self.this in RIGHT[self.of], self
        return RIGHT[self.of].replace(self.this, self.becomes, 1)

    @property
    def line(self) -> int:
        """Where the first finding should stand, from 1."""
        lines = self.text.splitlines()
        if self.at:
            return 1 + next(n for n, line in enumerate(lines) if self.at in line)
        return 1 + next(n for n, (a, b) in enumerate(zip(lines, RIGHT[self.of].splitlines(), strict=False)) if a != b)

    @property
    def mended(self) -> str:
        """The document after the remedy."""
        return RIGHT[self.of] if self.mend is None else self.text.replace(*self.mend)


CASES = [Wrong(**case) for case in YAML(typ="safe").load(HERE / "wrong.yaml")]


def findings(text: str) -> list[Finding]:
    return check(text, WORLD).findings


@pytest.mark.parametrize("name", RIGHT)
def test_the_sound_ones_are_sound(name):
    assert findings(RIGHT[name]) == []


@pytest.mark.parametrize("case", CASES, ids=lambda case: f"{case.of}: {case.becomes.strip() or case.this.strip()}"[:60])
def test_the_first_finding_is_where_the_mistake_is_and_its_remedy_helps(case):
    assert case.mended != case.text
    found = findings(case.text)
    assert found, "nothing was found"
    first = found[0]
    assert first.line == case.line, first
    assert [word for word in case.fix if word not in first.fix] == [], first
    assert not any(one.severity == "error" for one in findings(case.mended))
