"""The demo: made-up recordings of the Ostermoor Cut's last lock-keepers, each with the truth about its faults."""

from __future__ import annotations

from pathlib import Path

_FOLDER = Path(__file__).parent / "recordings"
_NAMES = ("keeper-interview", "radio-call", "lock-bell", "concertina-waltz", "paddle-gear")


def recordings() -> list[Path]:
    """Return the demo recordings, in the order they are offered."""
    return [_FOLDER / f"{name}.flac" for name in _NAMES]


def truth_of(recording: Path) -> Path:
    """Return the JSON file that says which faults were planted where (frames, half open, and channels)."""
    return recording.with_suffix(".truth.json")
