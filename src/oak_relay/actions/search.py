"""`web.search`: a search service that answers with a JSON Feed (version 1.1)."""

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import Annotated
from urllib.parse import urlsplit

from pydantic import AfterValidator, BaseModel, Field

from oak_relay.actions.base import Action, Connector, Fields
from oak_relay.actions.exchange import authorised, send
from oak_relay.capabilities.given import Result
from oak_relay.capabilities.protocols import Outbound
from oak_relay.document.durations import moment, seconds
from oak_relay.document.errors import StepFailed
from oak_relay.document.values import in_brief
from oak_relay.document.wire import WebAddress
from oak_relay.document.words import Duration, sound_duration

_LARGEST = 2_000_000


class SearchInput(Fields):
    url: WebAddress = Field(description="Address of the search service.")
    query: str = Field(min_length=1, max_length=500, description="What to search for, in a few words.")
    newer_than: Annotated[Duration, AfterValidator(sound_duration)] | None = Field(
        None, description="How old results may be, as 7d; those that say no date are kept."
    )
    only_from: list[Annotated[str, Field(pattern=r"^[A-Za-z0-9.-]{1,253}$")]] = Field(
        default_factory=list, max_length=50, description="Only results from these hosts, and from those below them."
    )
    limit: int = Field(5, ge=1, le=20)
    credential: str | None = Field(None, description="Name of a stored credential.")


class Searched(BaseModel):
    results: list[dict[str, object]]
    sources: list[dict[str, object]]


async def _search(given: SearchInput, at: Outbound) -> Result:
    headers = {"User-Agent": "oak-relay", "traceparent": at.trace_parent, "Accept": "application/feed+json"}
    oldest = datetime.now(UTC) - timedelta(seconds=seconds(given.newer_than)) if given.newer_than else None
    query = {
        "q": given.query,
        "after": oldest.isoformat(timespec="seconds") if oldest else "",
        "sites": ",".join(given.only_from),
        "limit": str(given.limit),
    }
    params = {name: value for name, value in query.items() if value}
    request = at.http.build_request("GET", given.url, params=params, headers=headers, timeout=at.timeout)
    request = await authorised(at, request, given.credential)
    exchange = await send(at, request, _LARGEST, given.credential)
    if exchange.status != 200:
        raise exchange.failure()
    feed = exchange.read("json")
    if not isinstance(feed, dict) or not isinstance(feed.get("items"), list):
        raise StepFailed(
            "wrong_shape", "web.search: the reply is no JSON Feed", fix="is the url right?", reached="yes",
            detail=exchange.detail,
        )  # fmt: skip
    items = [
        item
        for item in feed["items"]
        if isinstance(item, dict)
        and isinstance(item.get("url"), str)
        and _from(item["url"], given.only_from)
        and _newer(item.get("date_published"), oldest)
    ]
    results = [
        {
            "url": item["url"],
            "title": item.get("title") or item["url"],
            "text": item.get("content_text") or item.get("summary") or "",
            "at": item.get("date_published"),
        }
        for item in items[: given.limit]
    ]
    sources = [{"url": one["url"], "title": one["title"]} for one in results]
    return Result({"results": results, "sources": sources}, exchange.detail)


def _from(url: str, hosts: Sequence[str]) -> bool:
    """Whether an address is of one of the hosts, or below one; a service need not keep to what it was asked."""
    try:
        host = (urlsplit(url).hostname or "").lower()
    except ValueError:
        return False
    return not hosts or any(host == one.lower() or host.endswith(f".{one.lower()}") for one in hosts)


def _newer(date: object, oldest: datetime | None) -> bool:
    if oldest is None or not isinstance(date, str):
        return True
    try:
        return moment(date) >= oldest
    except ValueError:
        return True


CONNECTOR = Connector(
    "Search",
    [
        Action(
            "web.search",
            "Search the web",
            SearchInput,
            Searched,
            timeout=30,
            perform=_search,
            sentence=lambda step, given: f"Search the web for {in_brief(given.get('query'))}",
            example_gives={
                "results": [
                    {
                        "url": "https://paths.example/thistle-col",
                        "title": "Thistle Col report",
                        "text": "Thistle Col hut: strong wind on the col, the path is icy before ten.",
                        "at": "…",
                    },
                    "…",
                ],
                "sources": [{"url": "https://paths.example/thistle-col", "title": "Thistle Col report"}, "…"],
            },
            example={"url": "http://search.example/feed", "query": "${ input.question }"},
            first=("url", "query", "newer_than", "only_from", "limit"),
        )
    ],
)
