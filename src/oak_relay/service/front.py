"""What every request comes to first: webhooks, the busiest path by far, have a way of their own past the framework's layers."""

from functools import cached_property

from fastapi import FastAPI, Request
from starlette.middleware.errors import ServerErrorMiddleware
from starlette.middleware.exceptions import ExceptionMiddleware
from starlette.types import ASGIApp, Receive, Scope, Send

from oak_relay.service import hooks
from oak_relay.service.borders import Guard

_HOOKS = "/hooks/"


class Service(FastAPI):
    """The application. What it describes for webhooks is done here, within the same guard and with the same answers to whatever
    goes wrong."""

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] == "http" and scope["path"].startswith(_HOOKS) and scope["method"] in hooks.METHODS:
            scope["app"] = self
            scope["path_params"] = {"path": scope["path"].removeprefix(_HOOKS)}
            await self._hooks(scope, receive, send)
        else:
            await super().__call__(scope, receive, send)

    @cached_property
    def _hooks(self) -> ASGIApp:
        handlers = dict(self.exception_handlers)
        whatever = handlers.pop(Exception, None)
        return ServerErrorMiddleware(Guard(ExceptionMiddleware(_receive, handlers=handlers)), handler=whatever)


async def _receive(scope: Scope, receive: Receive, send: Send) -> None:
    response = await hooks.receive(Request(scope, receive, send))
    await response(scope, receive, send)
