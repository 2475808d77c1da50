"""Which stretches of a recording show what is to be taken out of it, as a person writes them."""

from __future__ import annotations

from umbrick.core.errors import ParameterError

ADAPTIVE = "adaptive"


def parsed_print(text: str) -> list[tuple[int, int]]:
    """Return the spans of a print, in order, from ``START-END[,START-END…]`` in frames; none for ``adaptive``.

    ParameterError if it is not written so.
    """
    if text.strip() == ADAPTIVE:
        return []
    spans = []
    for part in text.split(","):
        start, _, stop = part.strip().partition("-")
        if not (start.isdigit() and stop.isdigit() and int(start) < int(stop)):
            raise ParameterError(f"“{text}” is no noise print.", "Write START-END in frames, or adaptive.")
        spans.append((int(start), int(stop)))
    return sorted(spans)
