"""Headers of every answer."""

from collections.abc import Sequence

GUARD = {
    "Content-Security-Policy": "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "
    "frame-ancestors 'none'; base-uri 'self'; form-action 'self'",
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "same-origin",
}
"""They keep browsers from doing what our pages never need."""


def framed(sites: Sequence[str]) -> str:
    """The policy (CSP) of a page of ours that some sites may hold in a frame."""
    return GUARD["Content-Security-Policy"].replace(
        "frame-ancestors 'none'", f"frame-ancestors 'self' {' '.join(sites)}"
    )


HOOKS = {
    **GUARD,
    "Content-Security-Policy": "sandbox; default-src 'none'; frame-ancestors 'none'",
    "Referrer-Policy": "no-referrer",
}
"""Of answers of workflows: whatever they hold, in a browser it runs nothing and is no page of this site."""
DOCUMENTS = {**HOOKS, "Content-Security-Policy": "frame-ancestors 'self'"}
"""Of PDF files, which browsers show in a viewer of their own, and not in a sandbox: our pages may hold it."""
