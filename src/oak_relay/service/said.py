"""What was said in a conversation, as it is told."""

from collections.abc import Mapping
from typing import Any

from oak_relay.document import values
from oak_relay.service.shapes import MessageOut


def message_out(row: Mapping[str, Any]) -> MessageOut:
    """A line of a transcript, or a message of an agent's memory."""
    more = values.loads(row["more"])
    return MessageOut(
        seq=row["seq"],
        role=row["role"],
        message=values.loads(row["body"]),
        run_id=row["run_id"],
        at=row["at"],
        state=row["state"],
        good=row["good"],
        why=more.get("why") or row["held"] or "",
        by=more.get("by", ""),
        buttons=more.get("buttons", []),
        parts=more.get("parts", []),
        unkept=more.get("unkept", []),
    )
