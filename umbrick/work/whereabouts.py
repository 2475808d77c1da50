"""Where one was looking in a recording, as plain values for the casebook."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any, TypeGuard

from umbrick.casebook.shelf import SAVED_AT
from umbrick.core.timeline.marks import Standing
from umbrick.core.view.window import Window
from umbrick.work.selection import Selection
from umbrick.work.settled import adjustment_of
from umbrick.work.work import Work


def view_of(work: Work) -> dict[str, Any]:
    """Return where one is looking."""
    return {
        "cursor": work.cursor,
        "selection": list(work.selection.span) if work.selection else None,
        "channel": work.channel,
        "passage": [work.passage.start, work.passage.stop],
        "loupe": [work.loupe.start, work.loupe.stop],
        "magnified": work.magnified,
        "focus": work.focus.id if work.focus else None,
        SAVED_AT: None if work.has_unsaved_mends else work.history.now,
    }


def show_view(work: Work, view: dict[str, Any]) -> None:
    """Look where one was looking; what makes no sense is left as it is."""
    frames = work.frames
    if _is_place(cursor := view.get("cursor"), frames):
        work.cursor = int(cursor)
    if _is_place(channel := view.get("channel"), work.channels - 1):
        work.channel = int(channel)
    if (span := _span(view.get("selection"), frames)) and span[0] < span[1]:
        work.selection = Selection(int(span[0]), int(span[1]), work.selected_channels)
    if (span := _span(view.get("passage"), frames)) and span[1] - span[0] >= 1:
        work.passage = Window(*span).within(frames)
    if (span := _span(view.get("loupe"), frames)) and span[1] - span[0] >= 1:
        work.loupe = Window(*span).within(frames)
    if _is_place(magnified := view.get("magnified"), 4096) and magnified >= 1:
        work.magnified = float(magnified)
    row = work.table.rows.get(str(view.get("focus")))
    work.focus = work.table.findings[row] if row is not None else None


def standing_of(view: dict[str, Any], sensitivity: Mapping[str, float]) -> Standing:
    """Return what was settled for kinds of finding, as earlier casebooks kept it beside where one was looking."""
    preferred, adjusted = view.get("preferred"), view.get("adjusted")
    titles = {str(kind): str(title) for kind, title in preferred.items()} if isinstance(preferred, dict) else {}
    told = adjusted.items() if isinstance(adjusted, dict) else ()
    return Standing(dict(sensitivity), titles, {str(kind): one for kind, one in told if adjustment_of(one)})


def _is_place(value: Any, limit: int) -> TypeGuard[int | float]:
    return isinstance(value, int | float) and math.isfinite(value) and 0 <= value <= limit


def _span(value: Any, frames: int) -> tuple[float, float] | None:
    if not isinstance(value, list) or len(value) != 2 or not all(isinstance(part, int | float) for part in value):
        return None
    start, stop = value
    return (start, stop) if -frames <= start < stop <= 2 * frames else None
