"""All of the demo with model servers of other manners: one that is strict, and one that knows nothing but text."""

import httpx
import pytest

from tests.conftest import Processes, seed_agents, until
from tests.test_language import run_of

MANNERS = ("strict", pytest.param("strict+no-schema+no-object+no-tools+no-stream+no-usage", marks=pytest.mark.long))


@pytest.fixture(params=MANNERS)
def demo(request, lone: Processes) -> Processes:
    lone.start_worker()
    lone.start("tick")
    seed_agents(lone)
    for name, model in (("quick", "larch-small"), ("careful", "larch-large")):
        url = f"{lone.standins}/{request.param}/v1"
        lone.client().put_model(name, url=url, model=model, credential="models", prices={"input": 1, "output": 4})
    return lone


@pytest.mark.timeout(240)
def test_the_demo_plays_with_it(demo: Processes):
    client = demo.client()
    for message, label in (("Is breakfast included?", "question"), ("I want my money back", "refund")):
        answer = httpx.post(
            f"{demo.standins}/office/requests",
            json={"message": message, "guest": {"email": "jo@guests.example"}},
            timeout=60,
        )
        run = run_of(client, answer.json()["run"])
        if label == "refund":
            [question] = until(lambda: client.tray())
            client.answer(question.id, "approve")
        run.result()
        [span] = [s for s in client.trace(run.id).spans if s.path == "kind"]
        assert span.output["label"] == label
    morning = client.start("morning-conditions", {}).wait()
    assert morning.state == "succeeded", morning.error
    guest = {"message": "Which huts have a bunk free on 5 June?", "guest": "jo@guests.example"}
    talked = [client.start("guest-chat", guest).result() for _ in range(2)]
    assert all(talked)
    screened = client.start(
        "reply-screen",
        {
            "question": "Is breakfast included?",
            "guest": "jo@guests.example",
            "answer": "Breakfast is included in every hut.",
        },
    ).wait()
    assert screened.state == "succeeded", screened.error
