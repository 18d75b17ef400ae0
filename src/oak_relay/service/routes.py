"""The routes of an application, those of included routers too."""

from collections.abc import Iterable, Iterator

from fastapi import FastAPI
from starlette.routing import BaseRoute


def every_route(app: FastAPI) -> Iterator[BaseRoute]:
    """All of them, in the order in which they are asked."""
    return _flat(app.router.routes)


def _flat(routes: Iterable[BaseRoute]) -> Iterator[BaseRoute]:
    for route in routes:
        inner = getattr(route, "original_router", None)
        if inner is None:
            yield route
        else:
            yield from _flat(inner.routes)
