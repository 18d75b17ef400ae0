"""What the webhooks are measured against: an endpoint that checks its body is JSON, inserts one row and commits."""

import os
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from typing import Any

import asyncpg
import orjson
from fastapi import FastAPI, Request


@asynccontextmanager
async def lifespan(app: FastAPI) -> AsyncIterator[None]:
    async with asyncpg.create_pool(os.environ["OAK_RELAY_DATABASE_URL"], min_size=10, max_size=10) as pool:
        await pool.execute("CREATE TABLE IF NOT EXISTS bench_bare (id bigserial PRIMARY KEY, body text)")
        app.state.pool = pool
        yield


app = FastAPI(lifespan=lifespan)


async def echo(scope: Any, receive: Any, send: Any) -> None:
    """An endpoint (ASGI) that answers every request with the same small JSON."""
    if scope["type"] == "http":
        while (await receive()).get("more_body"):
            pass
        headers = [(b"content-type", b"application/json"), (b"content-length", b"11")]
        await send({"type": "http.response.start", "status": 200, "headers": headers})
        await send({"type": "http.response.body", "body": b'{"ok":true}'})


@app.post("/bare", status_code=202)
async def bare(request: Request) -> dict[str, int]:
    body = await request.body()
    orjson.loads(body)
    return {
        "id": await request.app.state.pool.fetchval(
            "INSERT INTO bench_bare (body) VALUES ($1) RETURNING id", body.decode()
        )
    }
