"""Who may do what: each route of the API by the right it needs, in one table, and what each role may."""

from collections.abc import Collection, Mapping
from typing import Literal, get_args

Right = Literal["read", "answer", "run", "write", "store", "manage"]
"""`read`: see runs, traces, tables, usage; `answer`: the tray; `run`: start, cancel, run again, schedules, budgets, rows, events;
`write`: workflows, their settings, tries and talks; `store`: credentials, models, tool servers, tables; `manage`: tokens,
sessions of others, restores."""
RIGHTS: tuple[Right, ...] = get_args(Right)
ROLES: Mapping[str, frozenset[Right]] = {
    "owner": frozenset(RIGHTS),
    "engineer": frozenset({"read", "answer", "run", "write", "store"}),
    "operator": frozenset({"read", "answer", "run"}),
    "viewer": frozenset({"read"}),
    "answerer": frozenset({"answer"}),
}
OWN = "own"
"""What everybody may who is known: its own session and password."""
_NEEDS: Mapping[str, Collection[str]] = {
    OWN: (
        "GET /session", "DELETE /session", "GET /sessions", "DELETE /sessions/{session_id}", "POST /password",
    ),
    "read": (
        "GET /workflows", "GET /workflows/{name}", "GET /workflows/{name}/samples", "GET /runs", "GET /runs/stream", "GET /runs/{run_id}",
        "GET /runs/{run_id}/trace", "GET /runs/{run_id}/view", "GET /runs/{run_id}/record", "GET /runs/{run_id}/items", "GET /runs/{run_id}/journal", "GET /runs/{run_id}/why", "GET /runs/{run_id}/stream",
        "GET /runs/{run_id}/messages", "GET /artifacts/{artifact_id}", "GET /events", "GET /schedules", "POST /schedules/preview", "GET /tables",
        "GET /tables/{name}/rows", "GET /files", "GET /files/{file_id}", "GET /files/{file_id}/content", "POST /files/{file_id}/address", "GET /tray", "GET /tray/{question_id}/said", "GET /tray/connections", "GET /counts", "GET /overview", "GET /usage", "GET /usage.csv", "GET /budgets", "GET /credits", "GET /conversations",
        "GET /conversations/{key}", "GET /models", "GET /workflows/{name}/refusals", "GET /tables/{name}/rows.csv", "GET /tables/{name}/rows.jsonl", "GET /tables/{name}/rows.xlsx", "GET /examples", "GET /servers", "GET /credentials", "GET /credentials/{name}/use", "GET /credential-kinds", "GET /trigger-kinds", "GET /channels",
        "GET /actions", "GET /connectors", "GET /connectors/{name}", "GET /restore", "POST /workflows/check", "POST /workflows/compare", "POST /workflows/price",
    ),
    "answer": ("POST /tray/{question_id}/answer", "POST /tray/{question_id}/say", "GET /tray/{question_id}/said", "GET /tray", "GET /tray/connections", "GET /counts"),
    "run": (
        "POST /runs", "POST /files", "POST /runs/many", "POST /runs/{run_id}/again",
        "POST /runs/{run_id}/cancel", "POST /events", "POST /schedules/{workflow}/{trigger}/pause", "POST /schedules/{workflow}/{trigger}/fire",
        "PUT /budgets/{name}", "DELETE /budgets/{name}", "POST /credits/{credential}", "DELETE /credits/{credential}", "POST /tables/{name}/rows", "PATCH /tables/{name}/rows/{row_id}",
        "DELETE /tables/{name}/rows/{row_id}", "DELETE /conversations/{key}", "POST /conversations/settle", "POST /conversations/verdicts", "POST /credentials/{name}/ready",
    ),
    "write": (
        "POST /examples/{name}/play", "POST /workflows", "POST /workflows/{name}/on", "POST /workflows/{name}/off", "DELETE /workflows/{name}", "POST /workflows/{name}/rename", "POST /workflows/{name}/duplicate", "PUT /workflows/{name}/settings", "POST /workflows/render", "POST /workflows/try", "POST /workflows/talk", "POST /phrases",
        "GET /workflows/{name}/triggers", "POST /workflows/{name}/triggers/{trigger}/next",
        "DELETE /workflows/{name}/triggers/{trigger}/next", "POST /workflows/{name}/samples", "DELETE /workflows/{name}/samples/{sample_id}", "POST /runs/{run_id}/sample",
    ),
    "store": (
        "PUT /credentials/{name}", "DELETE /credentials/{name}", "POST /credentials/{name}/test", "POST /credentials/{name}/consent", "DELETE /credentials/{name}/consent",
        "POST /consents", "POST /providers/look", "PUT /models/{name}", "DELETE /models/{name}",
        "POST /models/{name}/test", "POST /model-servers/look", "POST /model-servers/connect", "GET /model-servers", "PUT /servers/{name}", "DELETE /servers/{name}", "POST /servers/{name}/test", "POST /tables/{name}/import", "POST /tables",
        "DELETE /tables/{name}", "POST /curl", "POST /channels/read", "POST /channels/send", "POST /descriptions", "PUT /connectors/{name}", "DELETE /connectors/{name}", "POST /connectors/{name}/compare", "POST /connectors/{name}/try",
    ),
    "manage": ("GET /settings", "GET /tokens", "POST /tokens", "DELETE /tokens/{token_id}", "POST /hold", "POST /release", "DELETE /restore/missing"),
}  # fmt: skip
_OF_ITSELF = ("GET /session", "DELETE /session")
"""Of these, what a token may too that is limited to some rights."""
NEEDS: Mapping[str, frozenset[str]] = {
    route: frozenset(right for right, routes in _NEEDS.items() if route in routes)
    for routes_ in _NEEDS.values()
    for route in routes_
}
"""Of each route (its method and its path under `/api/v1`) the rights of which one is enough."""
OF_A_WORKFLOW = frozenset(
    route for route in NEEDS if route.split(" ")[1].startswith(("/workflows/{name}", "/runs/{run_id}", "/schedules/{workflow}"))
) | {"POST /runs", "GET /runs", "GET /schedules"}  # fmt: skip
"""Routes that a token may use which is limited to some workflows."""


def may(role: str, limited: Collection[str] | None, route: str) -> bool:
    """Whether somebody of a role may use a route, by a token that is limited to some rights where `limited` is not None."""
    needed = NEEDS.get(route, frozenset())
    own = OWN in needed and (limited is None or route in _OF_ITSELF)
    return own or not needed.isdisjoint(of(role, limited))


def of(role: str, limited: Collection[str] | None) -> frozenset[str]:
    """The rights of a role, or of a token that is limited to some of them."""
    has = frozenset[str](ROLES.get(role, frozenset()))
    return has if limited is None else has & frozenset(limited)
