"""A finding: one fault, where it is, and why it is believed to be one."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import Enum
from typing import Any


class Family(Enum):
    """The five families of findings; each has its own glyph and tint in the interface."""

    LEVELS = "levels"
    IMPULSES = "impulses"
    GAPS = "gaps"
    VOICE = "voice"
    BACKGROUND = "background"


class State(Enum):
    """What has been decided about a finding."""

    OPEN = "open"
    MENDED = "mended"
    KEPT = "kept"


@dataclass(frozen=True, slots=True)
class Finding:
    """One fault of a recording.

    ``start`` and ``stop`` are frames, half open; ``severity`` and ``confidence`` run from 0 to 1; ``evidence`` is
    one short sentence for a person; ``detail`` holds plain JSON values for programs and for the method that mends it.
    """

    id: str
    kind: str
    start: int
    stop: int
    channels: tuple[int, ...]
    severity: float
    confidence: float
    evidence: str
    detail: dict[str, Any] = field(default_factory=dict)


SPANNING_KINDS = ("hum", "hiss", "rumble", "dc_offset")
"""Kinds whose findings span the recording: they have no place to go to."""

DEFAULT_SENSITIVITY = 0.5
"""The sensitivity of a kind that none was given for."""
