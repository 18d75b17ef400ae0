"""Choices by example: what people say in any words finds the choice that it means, by vectors alone."""

import json
import time

import httpx
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oak_relay.models.phrases import meant
from tests.conftest import Processes

MENU = {
    "book a bunk": [
        "I want to reserve a bed",
        "can I book for two nights",
        "we would like to stay next week",
        "is there room for four people",
        "do you have a free bunk on Sunday",
        "please book a place for us",
        "can we sleep at the hut tonight",
    ],
    "change a booking": [
        "I need to move my reservation to another day",
        "can we come a day later instead",
        "please change the date of my booking",
        "one person fewer is coming than booked",
        "shift my reservation by a night",
        "add one more person to our booking",
    ],
    "cancel": [
        "I have to cancel",
        "we cannot come any more",
        "please call off my stay",
        "delete my reservation",
        "we are ill and will not come",
    ],
    "the path": [
        "is the path open",
        "how is the weather up there",
        "is there snow on the way",
        "how long is the walk to the hut",
        "is the track passable",
        "will there be a storm",
    ],
    "house rules": [
        "are dogs allowed",
        "what time is dinner",
        "is breakfast included",
        "can I drink the water",
        "is there a shower",
        "when are the quiet hours",
    ],
}
UNSEEN = {
    "book a bunk": ["I'd like to reserve two beds for Friday", "Do you have space for five of us on the 14th?", "We want to sleep at Upper Tarn tomorrow night", "please book a place for my family", "Could I get a bunk for Saturday?"],
    "change a booking": ["can we shift our stay to Sunday", "I booked for three but we are four now", "please move my booking by one night", "I'd like to alter the dates of my reservation", "we arrive a day earlier than booked"],
    "cancel": ["sorry, we won't make it, please cancel", "I want to call it off", "my trip is off, cancel the bunks", "please remove our reservation, we are ill", "we are not coming after all"],
    "the path": ["is the trail free of snow?", "how many hours does it take to walk up", "what's the weather forecast for tomorrow", "is the track over the saddle passable", "will it rain on the ridge"],
    "house rules": ["may I bring my dog", "when is breakfast served", "is the tap water safe to drink", "are there showers", "at what hour must it be quiet"],
    None: ["who won the game last night", "tell me a joke", "asdf qwer", "what is the capital of the moon", "I lost my umbrella on the train"],
}  # fmt: skip


def test_unseen_phrases_find_their_choice_by_the_vectors_alone(capsys: pytest.CaptureFixture[str]):
    found = [(choice, meant(text, MENU)) for choice, texts in UNSEEN.items() for text in texts]
    right = sum(one.choice == choice for choice, one in found)
    unsure = sum(not one.sure for _, one in found)
    with capsys.disabled():
        print(f"\n{right} of {len(found)} unseen phrases find their choice; {unsure} are unsure")
    assert len(found) == 30 and right >= 27
    assert sum(one.sure and one.choice != choice for choice, one in found) <= 1


def test_what_is_like_nothing_is_no_choice_and_two_alike_are_unsure():
    assert meant("", MENU).choice is None and meant("🙂🙂", MENU).choice is None
    alike = meant("is the path open", {"one": ["is the path open"], "other": ["is the path open"]})
    assert alike.choice in ("one", "other") and not alike.sure
    assert meant("\ud800 we cannot come", MENU).choice == "cancel"
    alone = meant("we cannot come", {"cancel": []})
    assert list(alone.likeness) == ["cancel"]


@given(st.text(max_size=300), st.dictionaries(st.text(min_size=1, max_size=20), st.lists(st.text(min_size=1, max_size=30), max_size=4), min_size=1, max_size=6))  # fmt: skip
@settings(max_examples=150)
def test_any_text_and_any_choices_are_compared(text: str, choices: dict[str, list[str]]):
    found = meant(text, choices)
    assert set(found.likeness) == set(choices) and all(-1.01 <= one <= 1.01 for one in found.likeness.values())


def test_phrases_are_tried_before_anybody_says_them(oak: Processes):
    client = oak.client()
    before = len(client.runs(limit=1000))
    said = ["Is the path open?", "3", "CANCEL!", "asdf qwer", "", "\u0000 is the path open", "🙂" * 500]
    found = client.try_phrases(MENU, said, otherwise="house rules").found
    assert [one.choice for one in found[:4]] == ["the path", "cancel", "cancel", "house rules"]
    assert [one.text for one in found[:4]] == said[:4] and all(list(one.likeness) for one in found)
    assert client.try_phrases({"cancel": []}, ["no"]).found[0].choice is None
    half = '{"choices": {"a\\ud800": ["b \\ud800"], "c": []}, "phrases": ["b \\ud800", "\\u202e"]}'
    assert _sent(oak, half).status_code in (200, 400, 422)
    long, many = "x" * 201, ["soup"] * 101
    for choices, phrases in (
        ({}, ["a"]), ({"a": []}, []), ({"a": [long]}, ["a"]), ({"a": many}, ["a"]), ({"a": []}, many), ({"a": []}, ["x" * 2_001]),
        ({f"c{n}": [] for n in range(21)}, ["a"]), ({"x" * 61: []}, ["a"]), ({"a": "b"}, ["a"]), ({"a": {}}, ["a"]), (["a"], ["a"]),
    ):  # fmt: skip
        assert _sent(oak, json.dumps({"choices": choices, "phrases": phrases})).status_code == 422, choices
    assert _sent(oak, "[" * 100_000).status_code == 413 and _sent(oak, "x" * 1_600_000).status_code == 413
    whole = {f"{n}" * 30: [f"{n} {m} soup " * 15 for m in range(100)] for n in range(10, 30)}
    assert len(client.try_phrases(whole, ["is there soup " * 140] * 100).found) == 100
    assert len(client.runs(limit=1000)) == before


def _sent(oak: Processes, body: str) -> httpx.Response:
    headers = {"Authorization": f"Bearer {oak.token}", "Content-Type": "application/json"}
    return httpx.post(f"{oak.url}/api/v1/phrases", content=body, headers=headers)


def test_a_long_text_takes_milliseconds():
    meant("ready", MENU)
    began = time.process_time()
    meant("word " * 4_000, MENU)
    assert time.process_time() - began < 0.5
