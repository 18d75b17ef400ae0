"""The words that people read: one list of all of them, read by somebody, and kept to the words of the product."""

import re

import pytest
from scripts.words import ROOT, listing, texts

FORMER = {
    r"\b(re-?run|redo|resume[sd]?)\b": "run again",
    r"\b(make|made|go|goes|is) live\b|\blive version\b": "on, off",
    r"\bwalk(s|ed)?\b": "carry out",
    r"\b(lane|fence|incarnation|claimed)\b": "subject, ready",
    r"\b(un)?happy\b": "content, discontent",
    r"\b(pydantic|jinja2?|asyncpg|sqlalchemy|starlette|httpx|NoneType|TypeError|ValueError|Traceback)\b": "our own words",
    r"\bplease\b|!$|\.\.\.|\boops\b": "say it plainly",
    r"\bValue error\b|\bInput should\b|\bextra inputs\b": "our own words",
}
"""What was said once, or is another's word, and what is said."""


def test_the_list_of_all_words_is_the_one_that_was_read():
    """Made anew by `make words`; who changes a text reads what changed in the list."""
    assert (ROOT / "docs" / "words.txt").read_text() == listing(), "make words, and read what changed"


@pytest.mark.parametrize("former", FORMER)
def test_no_text_says_what_is_not_our_word(former: str):
    found = [(file, text) for file, said in texts().items() for text in said if re.search(former, text, re.IGNORECASE)]
    assert not found, FORMER[former]


def test_the_list_holds_what_people_meet():
    every = {text for said in texts().values() for text in said}
    for text in (
        "too many wrong passwords",  # a problem
        "raise the step's timeout",  # a remedy
        "find mistakes in documents",  # a command's help
        "Choose the first that holds",  # a step's sentence
        "Secrets go in and are used; they never come out again.",  # a page
        "Search name, title, label",  # a hint in a field
        "Most a run may spend on models.",  # a field's description
    ):
        assert text in every, text
    assert len(every) > 1500
