"""Credit: what was paid in, what is left, a warning before it ends, and runs that go on once it is paid."""

from datetime import UTC, datetime, timedelta

import httpx
import pytest

from oak_relay.client import Client, NotFound
from tests.conftest import Processes, until
from tests.test_service import ASKED, waits_for

WARNED = """
oak: 1
workflow: credit-warned
triggers: [{trigger: t, event: {type: oak.credit}}]
steps: [{step: told, set: {what: "${ event.data.credential } ${ event.data.state } ${ event.data.left }"}}]
result: ${ told.what }
"""
USED = (
    "INSERT INTO usage (workspace_id, day, workflow_id, alias, credential, source, input, cached, output, money, unpriced, calls) "
    "VALUES (1, (now() AT TIME ZONE 'UTC')::date - $2::int, gen_random_uuid(), 'careful', $1, '/x', 10, 0, 10, $3, $4, 1)"
)


def account(oak: Processes, client: Client, name: str) -> str:
    client.put_credential(name, kind="bearer", secret=f"secret-of-{name}", hosts=["127.0.0.1"])
    client.save(WARNED)
    client.on("credit-warned")
    return name


def told(client: Client, name: str) -> list[str]:
    runs = client.runs(workflow="credit-warned", state="succeeded")
    return [text for r in reversed(runs) if (text := str(client.run(r.id).result)).startswith(name)]


def credit(client: Client, name: str):
    return next(c for c in client.credits() if c.credential == name)


def test_what_is_left_is_counted_from_what_was_noted_and_ends_with_a_warning(oak: Processes, client: Client):
    name = account(oak, client, "purse")
    oak.rows(USED, name, 0, 3, 0)  # what the day has cost before is not of this credit
    assert client.note_credit(name, 10).left == 10
    oak.rows(USED, name, 0, 2, 0)
    until(lambda: credit(client, name).spent == 2)
    assert (credit(client, name).state, credit(client, name).left) == ("warned", 8), "at five a day it lasts two days"
    assert client.note_credit(name, 92).left == 100
    until(lambda: credit(client, name).state == "within")
    oak.rows(USED, name, 0, 80, 0)
    until(lambda: credit(client, name).state == "warned")
    oak.rows(USED, name, 0, 30, 1)
    until(lambda: credit(client, name).state == "spent")
    found = credit(client, name)
    assert (found.left, found.unpriced) == (-10, 1)
    assert until(lambda: len(seen := told(client, name)) == 3 and seen) == [
        "purse warned 8.0", "purse warned 20.0", "purse spent -10.0",
    ]  # fmt: skip
    again = client.note_credit(name, 5)
    assert (again.left, again.state, again.unpriced) == (5, "warned", 0)
    client.forget_credit(name)
    with pytest.raises(NotFound):
        client.forget_credit(name)


def test_it_says_until_when_it_lasts_at_the_present_pace(oak: Processes, client: Client):
    name = account(oak, client, "slow-purse")
    for day in range(1, 5):
        oak.rows(USED, name, day, 2, 0)
    oak.rows(USED, name, 20, 900, 0)
    noted = client.note_credit(name, 80, adds=False)
    assert noted.a_day == pytest.approx(8 / 5)
    assert noted.lasts is not None
    assert noted.lasts - datetime.now(UTC) == pytest.approx(timedelta(days=50), abs=timedelta(minutes=5))
    assert client.note_credit(name, 40, adds=False).left == 40


def test_paying_in_lets_runs_go_on(oak: Processes, client: Client):
    client.save(ASKED.format(url=oak.standins, more="", gives="status"), over=True)
    oak.fault(service="office", status=402)
    run = client.start("asks-office", {"credential": "office"})
    waits_for(client, run, "office")
    client.note_credit("office", 20)
    assert run.result() == 201
    client.forget_credit("office")


@pytest.mark.parametrize(
    "body",
    [{}, {"money": -1}, {"money": "much"}, {"money": 1e300}, {"money": 5, "adds": "yes"}, {"money": 1, "more": 1}],
)
def test_what_is_no_payment_is_refused(oak: Processes, client: Client, body):
    headers = {"Authorization": f"Bearer {oak.token}"}
    assert httpx.post(f"{oak.url}/api/v1/credits/office", json=body, headers=headers).status_code == 422
    assert httpx.post(f"{oak.url}/api/v1/credits/nobody", json={"money": 5}, headers=headers).status_code == 404
    assert not [c for c in client.credits() if c.credential in ("office", "nobody")]
