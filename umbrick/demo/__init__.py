"""The demo: made-up recordings of the Ostermoor Cut's last lock-keepers, each with the truth about its faults."""

from __future__ import annotations

from pathlib import Path

_FOLDER = Path(__file__).parent / "recordings"
_NAMES = (
    "keeper-interview.flac",
    "radio-call.flac",
    "lock-bell.flac",
    "concertina-waltz.flac",
    "paddle-gear.flac",
    "choir-left.flac",
    "choir-right.flac",
    "choir-spot.flac",
    "gates-opening.mkv",
)


def recordings() -> list[Path]:
    """Return the demo recordings, in the order they are offered."""
    return [_FOLDER / name for name in _NAMES]


def truth_of(recording: Path) -> Path:
    """Return the JSON file that says which faults were planted where (frames, half open, and channels)."""
    return recording.with_suffix(".truth.json")
