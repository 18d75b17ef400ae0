"""The search desk: web search over an invented corpus, answered as a JSON Feed (version 1.1)."""

import re
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from fastapi import FastAPI, Request
from fastapi.responses import JSONResponse, Response
from ruamel.yaml import YAML

from oak_relay.standins.ledger import Ledger

_WORD = re.compile(r"[a-z]{3,}")


def add(app: FastAPI, ledger: Ledger, folder: Path) -> None:
    """Its endpoint, over the pages of `search.yaml` in a folder: url, title, text, and how many hours old."""
    file = folder / "search.yaml"
    pages: list[dict[str, Any]] = YAML(typ="safe").load(file.read_text()) if file.exists() else []
    words = [set(_WORD.findall(f"{page['title']} {page['text']}".lower())) for page in pages]
    common = {word for some in words for word in some if sum(word in other for other in words) > len(pages) / 3}

    @app.get("/search")
    async def search(request: Request, q: str, after: str = "", sites: str = "", limit: int = 5) -> Response:
        answer = await ledger.fault("search", request, {"q": q})
        if answer is not None:
            return answer
        asked = set(_WORD.findall(q.lower())) - common
        now = datetime.now(UTC)
        oldest = datetime.fromisoformat(after) if after else datetime.min.replace(tzinfo=UTC)
        hosts = [host for host in sites.split(",") if host]
        found = []
        for page, here in zip(pages, words, strict=True):
            at = now - timedelta(hours=page.get("hours", 0))
            shared = len(asked & here)
            meant = not hosts or any(urlsplit(page["url"]).hostname == host for host in hosts)
            if shared and at >= oldest and meant:
                item = {"id": page["url"], "url": page["url"], "title": page["title"], "content_text": page["text"]}
                found.append((shared, {**item, "date_published": at.isoformat(timespec="seconds")}))
        found.sort(key=lambda one: -one[0])
        ledger.note("search", request, {"q": q, "after": after, "sites": sites}, 200)
        feed = {"version": "https://jsonfeed.org/version/1.1", "title": f"Results for {q}"}
        return JSONResponse({**feed, "items": [item for _, item in found[:limit]]}, media_type="application/feed+json")
