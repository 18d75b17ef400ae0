"""What the service answers, blanked of all that is secret."""

from fastapi import Request, Response

from oak_relay.vault.blanking import Blanker


def let_in(request: Request) -> None:
    """Who asks has proved who it is."""
    request.state.known = True


def is_known(request: Request) -> bool:
    """Whether who asks has proved who it is. Nothing is blanked for others: that would tell them what is secret."""
    return getattr(request.state, "known", False)


def blank(request: Request, answer: Response) -> Response:
    """An answer in JSON without anything that is secret, for who is known."""
    if is_known(request) and (answer.media_type or "").endswith("json"):
        blanker: Blanker = request.app.state.parts.registry.now.blanker
        text = bytes(answer.body).decode()
        shown = blanker.json(text)
        if shown is not text:
            answer.body = shown.encode()
            answer.headers["content-length"] = str(len(answer.body))
    return answer
