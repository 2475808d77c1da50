"""Every method. A new one is a module and one line here."""

from __future__ import annotations

from umbrick.core.errors import ParameterError
from umbrick.core.mend import bridge, collapse, declick, declip, fade, graft, level, redraw, splice, trim
from umbrick.core.mend.method import Method

METHODS: dict[str, Method] = {
    module.METHOD.name: module.METHOD
    for module in (declip, declick, bridge, graft, redraw, splice, collapse, fade, level, trim)
}


def method_named(name: str) -> Method:
    """Return the method of this name; ParameterError if there is none."""
    if name not in METHODS:
        raise ParameterError(f"There is no method “{name}”.", f"Methods so far: {', '.join(METHODS)}.")
    return METHODS[name]


def method_for(kind: str) -> Method | None:
    """Return the method that mends a kind of finding, or None if there is none yet."""
    return next((method for method in METHODS.values() if method.mends == kind), None)
