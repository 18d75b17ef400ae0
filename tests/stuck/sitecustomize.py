"""Loaded by every process that is started with this folder on its path: the filter `slug` holds the interpreter for good
when it is given these words, as a library may in a call that does not return."""

import ctypes

from oak_relay.document import filters

WORDS = "hold the interpreter"
_slug = filters.OWN_FILTERS["slug"]


def _stuck(text: str) -> str:
    if text == WORDS:
        ctypes.PyDLL(None).sleep(3600)  # without letting go of the interpreter
    return str(_slug(text))


filters.OWN_FILTERS["slug"] = _stuck
