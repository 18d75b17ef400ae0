"""What channels that know plain text alone are sent of a message in Markdown."""

import time

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oak_relay.triggers.channel import Shows
from oak_relay.triggers.rendering import pieces, plain, split

CHANNEL = Shows(files=True)


@pytest.mark.parametrize(
    ("text", "shown"),
    [
        ("Good day", "Good day"),
        ("**Glasswater** is *open*, `14` bunks", "Glasswater is open, 14 bunks"),
        ("# Huts\n\nSeven.", "Huts\n\nSeven."),
        ("- one\n- two\n  - inner", "• one\n• two\n  • inner"),
        ("3. three\n4. four", "3. three\n4. four"),
        ("[the map](https://huts.example/map)", "the map (https://huts.example/map)"),
        ("<https://huts.example>", "https://huts.example"),
        (
            "| hut | bunks |\n|---|---|\n| Thistle Col | 9 |\n| Glasswater | |",
            "hut: Thistle Col; bunks: 9\nhut: Glasswater",
        ),
        ("```\nif x:\n  y\n```", "if x:\n  y"),
        ("<b>no markup</b> & so", "<b>no markup</b> & so"),
        ("a\nb", "a\nb"),
        ("![the hut](hut.png)", "the hut (hut.png)"),
        ("> said", "said"),
        ("***", "—"),
        ("  ", ""),
    ],
)
def test_marks_are_told_in_words(text: str, shown: str):
    assert plain(text) == shown


def test_buttons_that_a_channel_cannot_show_are_told_in_lines():
    assert [one.buttons for one in pieces(CHANNEL, "Well?", ["yes", "no"])] == [("yes", "no")]
    [four] = pieces(CHANNEL, "Well?", ["yes", "no", "later", "never"])
    assert (four.text, four.buttons) == ("Well?\n\n1. yes\n2. no\n3. later\n4. never", ())
    [long] = pieces(CHANNEL, "Well?", ["a label that is far too long"])
    assert long.buttons == () and "1. a label" in long.text


@given(st.text(max_size=400), st.integers(20, 90))
@settings(max_examples=300)
def test_every_word_is_in_one_of_the_parts_in_order(text: str, most: int):
    parts = list(split(text, most))
    assert all(0 < len(part) <= most for part in parts)
    assert "".join("".join(parts).split()) == "".join(text.split())


@given(
    st.lists(
        st.sampled_from(
            ["*", "_", "`", "[", "](", ")", "\n", "|", "---", "- ", "1. ", "> ", "#", "word", " ", "<", "&amp;", "\\"]
        ),
        max_size=60,
    )
)
@settings(max_examples=400)
def test_any_text_can_be_sent(signs: list[str]):
    text = "".join(signs)
    sent = pieces(CHANNEL, text, ["yes"])
    assert sent[-1].buttons == ("yes",) and all(len(one.text) <= CHANNEL.letters for one in sent)


@pytest.mark.parametrize(
    "text",
    [
        "[" * 20_000,
        "*a **b " * 2_500,
        "> " * 10_000,
        "- " * 10_000,
        "|a" * 10_000 + "\n" + "|-" * 10_000,
        "`" * 20_000,
        "<" * 20_000,
    ],
)
def test_a_text_made_to_hurt_is_sent_in_seconds(text: str):
    began = time.process_time()
    pieces(CHANNEL, text, [])
    assert time.process_time() - began < 5
