"""Where one was looking in a recording, as plain values for the casebook."""

from __future__ import annotations

import math
from typing import Any, TypeGuard

from umbrick.casebook.shelf import SAVED_AT
from umbrick.core.errors import ParameterError
from umbrick.core.mend.registry import METHODS
from umbrick.core.mend.remedies import Adjustment
from umbrick.core.view.window import Window
from umbrick.work.selection import Selection
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
        "preferred": dict(work.preferred),
        "adjusted": {kind: _told(adjustment) for kind, adjustment in work.adjusted.items()},
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
    if isinstance(preferred := view.get("preferred"), dict):
        work.preferred = {str(kind): str(title) for kind, title in preferred.items()}
    if isinstance(adjusted := view.get("adjusted"), dict):
        read = {str(kind): _adjustment(told) for kind, told in adjusted.items()}
        work.adjusted = {kind: adjustment for kind, adjustment in read.items() if adjustment}
    row = work.table.rows.get(str(view.get("focus")))
    work.focus = work.table.findings[row] if row is not None else None


def _told(adjustment: Adjustment) -> dict[str, Any]:
    return {
        "title": adjustment.title,
        "method": adjustment.method.name,
        "settings": dict(adjustment.settings),
        "is_of_recording": adjustment.is_of_recording,
    }


def _adjustment(told: Any) -> Adjustment | None:
    """Return settings as they were told, or None for what no method has."""
    if not isinstance(told, dict) or not isinstance(settings := told.get("settings"), dict):
        return None
    method = METHODS.get(str(told.get("method")))
    if method is None:
        return None
    try:
        checked = method.checked(settings)
    except ParameterError:
        return None
    return Adjustment(str(told.get("title")), method, checked, told.get("is_of_recording") is True)


def _is_place(value: Any, limit: int) -> TypeGuard[int | float]:
    return isinstance(value, int | float) and math.isfinite(value) and 0 <= value <= limit


def _span(value: Any, frames: int) -> tuple[float, float] | None:
    if not isinstance(value, list) or len(value) != 2 or not all(isinstance(part, int | float) for part in value):
        return None
    start, stop = value
    return (start, stop) if -frames <= start < stop <= 2 * frames else None
