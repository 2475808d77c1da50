"""Settings that hold for all of a kind, as plain values and back."""

from __future__ import annotations

from typing import Any

from umbrick.core.errors import ParameterError
from umbrick.core.mend.registry import METHODS
from umbrick.core.mend.remedies import Adjustment


def told_of(adjustment: Adjustment) -> dict[str, Any]:
    """Return settings as plain values."""
    return {
        "title": adjustment.title,
        "method": adjustment.method.name,
        "settings": dict(adjustment.settings),
        "is_of_recording": adjustment.is_of_recording,
    }


def adjustment_of(told: Any) -> Adjustment | None:
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
