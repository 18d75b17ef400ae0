"""What a workflow will cost is said before it is put on, from what its runs and tries were."""

import pytest

from oak_relay.client import Client, Invalid
from tests.conftest import Processes, until

ASKING = """oak: 1
workflow: {name}
input: {{type: object, properties: {{say: {{type: string, default: Is the path open?}}}}}}
triggers:
  - {{trigger: dawn, schedule: {{cron: "0 6 * * *", zone: UTC}}}}
  - {{trigger: often, schedule: {{every: 1m}}}}
  - {{trigger: hook, webhook: {{path: {name}, verify: {{scheme: none}}}}}}
steps:
  - step: note
    set: {{x: 1}}
  - step: guests
    each: ${{ [1, 2] }}
    as: n
    steps:
      - step: reply
        do: model.answer
        with: {{model: careful, prompt: "${{ input.say }} ${{ n }}", max_tokens: 20}}
"""


def test_a_price_is_the_mean_of_runs_with_the_calendar_and_the_dearest_line(client: Client, oak: Processes):
    name = client.save(ASKING.format(name="priced"), over=True).workflow
    text = client.workflow(name).text
    unknown = client.price(text)
    assert (unknown.a_run, unknown.runs, unknown.a_month) == (None, 0, None)
    assert [round(one.a_month or 0) for one in unknown.starts] == [30, 43_200, 0]
    assert len(unknown.starts[0].next) == 3 and not unknown.starts[2].next
    runs = [client.start(name).wait() for _ in range(2)]
    assert all(run.money > 0 for run in runs)
    found = client.price(text)
    assert found.runs == 2 and found.a_run == pytest.approx(sum(run.money for run in runs) / 2)
    [asked] = found.asks
    assert (asked.step, asked.number, asked.alias) == ("reply", "2.1", "careful")
    assert asked.money == pytest.approx(found.a_run, rel=0.2)  # it alone asks, for both items
    assert found.a_month == pytest.approx(found.a_run * 43_230, rel=0.01)


def test_cheaper_models_and_how_long_credit_lasts(lone: Processes):
    lone.start_worker()
    client = lone.client()
    client.put_model("thrifty", unseen=True, url=f"{lone.standins}/v1", model="larch-tiny", credential="models", prices={"input": 0.1, "output": 0.4})  # fmt: skip
    client.put_model("dear", unseen=True, url=f"{lone.standins}/v1", model="larch-huge", credential="models", prices={"input": 9, "output": 40})  # fmt: skip
    name = client.save(ASKING.format(name="thrifty-one")).workflow
    text = client.workflow(name).text
    client.start(name).wait()
    client.note_credit("models", 1000)
    found = client.price(text)
    [other] = found.asks[0].others
    assert other.alias == "thrifty" and other.money == pytest.approx(found.asks[0].money / 10, rel=0.01)
    [drain] = until(lambda: client.price(text).drains)
    assert (drain.credential, drain.left) == ("models", 1000) and drain.lasts is not None


def test_what_was_tried_counts_before_the_first_run_and_what_asks_nobody_is_free(client: Client):
    text = ASKING.format(name="tried-alone").replace("reply\n", "tried_reply\n")
    client.save(text, over=True)
    tried = client.try_step(text, "tried_reply", {"say": "Is it open?"}, steps={"n": 1})
    assert tried.spans[-1].money > 0, tried
    found = until(lambda: (told := client.price(text)).a_run and told)
    assert found.runs == 0 and found.a_run == pytest.approx(tried.spans[-1].money)
    free = client.price("oak: 1\nworkflow: for-nothing\nsteps:\n  - {step: a, set: {x: 1}}\n")
    assert (free.a_run, free.asks, free.a_month) == (0.0, [], None)
    with pytest.raises(Invalid):
        client.price("oak: 1\nworkflow: [")
