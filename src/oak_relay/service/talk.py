"""`/api/v1/workflows/talk`: a throw-away conversation with an agent of a draft. Nothing of it is kept here."""

from typing import Any

from fastapi import APIRouter, Response
from pydantic import Field

from oak_relay.document.expressions import Template
from oak_relay.engine.outcomes import Finished
from oak_relay.engine.plan import Node, compile_plan, every_node, find_node
from oak_relay.messages import Message
from oak_relay.runtime.again import talk_with
from oak_relay.service import exact
from oak_relay.service.again import count_spent
from oak_relay.service.drafts import sampled, scope_of
from oak_relay.service.parts import CallerDep, ExactRoute, PartsDep
from oak_relay.service.problems import Problem, missing
from oak_relay.service.runs import spans_out
from oak_relay.service.shapes import In, SampleName, SourceOut, TalkedOut
from oak_relay.service.workflows import sound

router = APIRouter(route_class=ExactRoute, prefix="/api/v1", tags=["agents"])


class TalkIn(In):
    text: str = Field(
        max_length=600_000, description="The document, a draft: a workflow with an agent, or an agent document."
    )
    step: str = Field("", description="Which agent, where there are several.")
    say: str = Field(
        min_length=1, max_length=100_000, description="What the person says; it stands in the place of the prompt."
    )
    messages: list[Message] = Field(
        default_factory=list, description="What was said before, as the last answer gave it."
    )
    input: object = Field(None, description="A sample of the workflow's input.")
    sample: SampleName = Field("", description="A kept event of the workflow, in the place of `input`.")
    steps: dict[str, object] = Field(default_factory=dict, description="What earlier steps gave.")


@router.post("/workflows/talk", response_model=TalkedOut)
async def talk(given: TalkIn, parts: PartsDep, who: CallerDep) -> Response:
    """Say something to an agent of a draft; its tools are really called, but nothing that is kept here is changed.
    To go on, send back the `messages` of the answer; to try again, those of the one before."""
    document = (await sound(parts, given.text)).document
    assert document is not None
    plan = await parts.registry.documents.now(lambda: compile_plan(document))
    node = _agent(plan, given.step)
    body = Template({**node.body.raw, "prompt": "${ said }", "memory": {"conversation": "talk", "turns": 100}})
    sample = await sampled(parts, document, given.sample, given.input)
    scope = {"said": given.say, **await scope_of(parts, plan, "talk", sample, given.steps)}
    outcome, entries, messages = await talk_with(plan, parts.tools, node, body, scope, given.messages)
    await count_spent(parts, who, document.workflow, entries)
    over = isinstance(outcome, Finished)
    result = outcome.result if isinstance(outcome, Finished) else None
    return exact.answer(
        TalkedOut(
            text=(result or {}).get("text", ""),
            data=(result or {}).get("data"),
            why=(result or {}).get("why", ""),
            sources=[
                SourceOut(url=str(s["url"]), title=str(s.get("title") or "")) for s in (result or {}).get("sources", [])
            ],
            error=outcome.error if isinstance(outcome, Finished) else None,
            waits=None if isinstance(outcome, Finished) else outcome.wakes[0][0],
            tokens=(result or {}).get("tokens", 0),
            money=(result or {}).get("money", 0.0),
            messages=[*given.messages, *messages],
            spans=spans_out(entries, over),
        )
    )


def _agent(plan: Any, step: str) -> Node:
    """The agent that is meant. Raises `Problem`."""
    agents = [node for node in every_node((*plan.steps, *plan.always)) if node.kind == "agent"]
    if step:
        found = find_node(plan, step)
        if found is None or found.kind != "agent":
            raise missing("agent", step, f"there is {', '.join(n.name for n in agents) or 'none'}")
        return found
    if not agents:
        raise Problem(422, "the document has no agent", fix="add a step with do: agent")
    if len(agents) > 1:
        raise Problem(422, "which agent?", ", ".join(n.name for n in agents), "name one with step")
    return agents[0]
