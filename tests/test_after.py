"""Runs that begin when others have ended: of one workflow, or of any."""

from oak_relay.client import Client
from tests.conftest import Processes, until

WORK = """
oak: 1
workflow: {name}
input: {{type: object}}
steps:
  - step: all
    each: ${{ input.items | default([]) }}
    as: n
    width: 10
    steps: [{{step: x, set: {{v: "${{ n }}"}}}}]
    gives: ${{ x.v }}
  - step: bad
    when: ${{ input.fails | default(false) }}
    fail: the stove is out
result: ${{ all | length }}
"""
ONE = """
oak: 1
workflow: after-one
triggers: [{trigger: t, after: {workflow: after-work}}]
steps: [{step: a, set: {state: "${ input.state }", of: "${ input.workflow }"}}]
result: ${ a }
"""
ANY = """
oak: 1
workflow: tell-the-warden
title: Whatever fails is told
triggers: [{trigger: t, after: {ended: [failed, set aside]}}]
subject: ${ input.workflow }
steps:
  - {step: told, set: {text: "${ input.workflow } failed: ${ input.error.message }", run: "${ input.run }"}}
  - {step: again, when: "${ 'hopeless' in input.workflow }", fail: not even this can be told}
result: ${ told.text }
"""


def test_a_long_list_has_ended_once(oak: Processes, client: Client):
    client.save(WORK.format(name="after-work"))
    client.on(client.save(ONE).workflow)
    run = client.start("after-work", {"items": list(range(450))})
    assert run.result() == 450
    client.start("after-work", {"items": []}).result()
    until(lambda: len(client.runs(workflow="after-one")) == 2)
    assert {r.state for r in client.runs(workflow="after-one")} <= {"succeeded", "queued", "running"}


def test_whatever_fails_reaches_somebody(oak: Processes, client: Client):
    client.on(client.save(ANY).workflow)
    client.save(WORK.format(name="fails-alone"))
    parent = (
        "oak: 1\nworkflow: fails-below\nsteps: [{step: a, run: fails-alone, with: {fails: true}}]\nresult: ${ a }\n"
    )
    client.save(parent)
    client.save(WORK.format(name="hopeless"))
    client.start("fails-alone", {"fails": True}).wait()
    [told] = until(lambda: client.runs(workflow="tell-the-warden", state=["succeeded"]))
    assert client.run(told.id).result == "fails-alone failed: the stove is out"
    client.start("fails-below", {}).wait()
    until(lambda: len(client.runs(workflow="tell-the-warden", state=["succeeded"])) == 2)
    subjects = sorted(r.subject or "" for r in client.runs(workflow="tell-the-warden"))
    assert subjects == ["fails-alone", "fails-below"]  # a child's failure is its parent's
    client.start("hopeless", {"fails": True}).wait()
    until(lambda: client.runs(workflow="tell-the-warden", state=["failed"]))
    client.start("fails-alone", {"fails": True}).wait()
    until(lambda: len(client.runs(workflow="tell-the-warden", subject="fails-alone")) == 2)
    assert len(client.runs(workflow="tell-the-warden")) == 4  # its own failure does not begin it again
    client.off("tell-the-warden")
    assert client.workflow("tell-the-warden").workflow.starters == ["Any run that failed or set aside"]
