"""The console as it was built: its files, compressed as the browser takes them."""

from pathlib import Path

from fastapi import Response
from starlette.responses import FileResponse

WEB = Path(__file__).parent / "web"
_CODINGS = (("br", ".br"), ("gzip", ".gz"))
"""Content codings that files are laid down in, the better first, and how these are called."""
_TYPES = {
    ".js": "text/javascript; charset=utf-8",
    ".css": "text/css; charset=utf-8",
    ".html": "text/html; charset=utf-8",
}


def page(path: str, accepts: str) -> Response:
    """A file of the console, or the page that shows what stands at a path. `accepts`: the `Accept-Encoding` of the request."""
    file = _file(path)
    if file is not None:
        age = "public, max-age=31536000, immutable" if path.startswith(("assets/", "talk/assets/")) else "no-cache"
        return _answer(file, age, accepts)
    if not (WEB / "index.html").exists():
        return Response("The console is not built: make console", 404, media_type="text/plain")
    return _answer(WEB / "index.html", "no-cache", accepts)


def there(path: str) -> bool:
    """Whether there is a file of the console at a path."""
    return _file(path) is not None


def _answer(file: Path, age: str, accepts: str) -> Response:
    headers = {"Cache-Control": age, "Vary": "Accept-Encoding"}
    media = _TYPES.get(file.suffix)
    taken = accepted(accepts)
    for coding, suffix in _CODINGS:
        laid = file.with_name(file.name + suffix)
        if coding in taken and laid.is_file():
            return FileResponse(laid, media_type=media, headers={**headers, "Content-Encoding": coding})
    return FileResponse(file, media_type=media, headers=headers)


def accepted(header: str) -> frozenset[str]:
    """The content codings that an `Accept-Encoding` takes (RFC 9110, section 12.5.3)."""
    weights: dict[str, float] = {}
    for part in header[:1000].lower().split(","):
        name, _, weight = part.partition(";")
        try:
            weights[name.strip()] = float(weight.partition("=")[2]) if "=" in weight else 1.0
        except ValueError:
            weights[name.strip()] = 0.0
    return frozenset(coding for coding, _ in _CODINGS if weights.get(coding, weights.get("*", 0.0)) > 0)


def _file(path: str) -> Path | None:
    """A file of the console; None when there is none of that name, or it is no name of a file at all."""
    try:
        file = (WEB / path).resolve()
        return file if path and file.is_file() and file.is_relative_to(WEB) else None
    except (OSError, ValueError):
        return None
