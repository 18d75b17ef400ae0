"""The weather station: a tool server (Model Context Protocol, streamable HTTP), deterministic by hut and day."""

import hashlib
import json
import uuid
from datetime import UTC, datetime, timedelta
from typing import Any

from fastapi import FastAPI, Request
from fastapi.responses import JSONResponse, Response

from oak_relay.standins.ledger import Ledger

_SKIES = ("clear", "high cloud", "cloud from noon", "showers in the evening", "fog until ten", "wind from the north")
TOOLS = [
    {
        "name": "forecast",
        "title": "Forecast for a hut",
        "description": "The weather forecast for one hut: sky, temperature in degrees Celsius and wind in km/h.",
        "inputSchema": {
            "type": "object",
            "required": ["hut"],
            "properties": {"hut": {"type": "string"}, "days": {"type": "integer", "minimum": 1, "maximum": 5}},
        },
        "annotations": {"readOnlyHint": True},
    },
    {
        "name": "stations",
        "title": "Stations",
        "description": "The names of all weather stations.",
        "inputSchema": {"type": "object", "properties": {}},
        "annotations": {"readOnlyHint": True},
    },
]
HUTS = ("Kestrel Notch", "Upper Tarn", "Saint Odo's Rest", "Marmot Saddle", "Glasswater", "Thistle Col", "Long Shadow")


def add(app: FastAPI, ledger: Ledger) -> None:
    """Its one endpoint."""

    @app.post("/weather")
    async def speak(request: Request) -> Response:
        said = await request.json()
        method = said.get("method")
        if "id" not in said:
            return Response(status_code=202)
        if method == "tools/call":
            answer = await ledger.fault("weather", request, said["params"])
            if answer is not None:
                return answer
            ledger.worked[request.headers.get("idempotency-key", "")] += 1
            ledger.note("weather", request, said["params"], 200)
            await ledger.after("weather", request)
        headers = {"Mcp-Session-Id": uuid.uuid4().hex} if method == "initialize" else {}
        message = json.dumps({"jsonrpc": "2.0", "id": said["id"], **_answer(method, said.get("params") or {})})
        if "text/event-stream" in request.headers.get("accept", "") and method == "tools/call":
            return Response(f"event: message\ndata: {message}\n\n", media_type="text/event-stream", headers=headers)
        return Response(message, media_type="application/json", headers=headers)

    @app.delete("/weather")
    async def leave() -> Response:
        return JSONResponse({})


def _answer(method: str, params: dict[str, Any]) -> dict[str, object]:
    if method == "initialize":
        return {
            "result": {
                "protocolVersion": "2025-06-18",
                "capabilities": {"tools": {}},
                "serverInfo": {"name": "weather-station", "version": "1"},
            }
        }
    if method == "tools/list":
        return {"result": {"tools": TOOLS}}
    if method == "tools/call" and params.get("name") == "forecast":
        hut = str((params.get("arguments") or {}).get("hut", ""))
        if hut not in HUTS:
            text = f"There is no station at {hut}; there is one at {', '.join(HUTS)}."
            return {"result": {"content": [{"type": "text", "text": text}], "isError": True}}
        return {"result": _told(_forecast(hut, int((params.get("arguments") or {}).get("days", 1))))}
    if method == "tools/call" and params.get("name") == "stations":
        return {"result": _told({"stations": list(HUTS)})}
    return {"error": {"code": -32601, "message": f"there is no {method}"}}


def _told(value: dict[str, object]) -> dict[str, object]:
    return {"content": [{"type": "text", "text": json.dumps(value)}], "structuredContent": value}


def _forecast(hut: str, days: int) -> dict[str, object]:
    told = []
    for ahead in range(days):
        day = (datetime.now(UTC) + timedelta(days=ahead)).date()
        number = hashlib.sha256(f"{hut}{day}".encode()).digest()[0]
        told.append({"day": str(day), "sky": _SKIES[number % 6], "degrees": number % 19 - 3, "wind": number % 40})
    return {"hut": hut, "days": told}
