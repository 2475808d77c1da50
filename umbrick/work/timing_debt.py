"""The timing debt in words: how far the end of a recording has moved, where it is off on the way, and what moved it."""

from __future__ import annotations

from fractions import Fraction

from umbrick.core.timeline.sync import off_sync
from umbrick.core.units import format_clock, format_count, format_shift
from umbrick.work.work import Work

_MOST_TOLD = 4


def debt_of(work: Work, pictures: Fraction | None = None) -> str:
    """Return the timing debt as a length with its sign, and in pictures if so many come a second."""
    return _shift_text(work.history.timing_debt, work.rate, pictures)


def debt_explained(work: Work, pictures: Fraction | None = None) -> str:
    """Return what makes up the timing debt, the largest shifts first, and where the sound is out of sync."""
    moving = [entry.mend for entry in work.history.ledger if entry.is_on and entry.mend.time_shift]
    spans = off_sync(work.version)
    if not moving and not spans:
        return "Timing debt 0 ms: no mend has changed the length, so everything is where it was in the original."
    moving.sort(key=lambda mend: -abs(mend.time_shift))
    debt = work.history.timing_debt
    end = "is where it was" if not debt else f"comes {'later' if debt > 0 else 'earlier'} than in the original"
    told = f"Timing debt {debt_of(work, pictures)}: the end {end}."
    if moving:
        mends = [
            f"{mend.method} at {format_clock(mend.start, work.rate)} {format_shift(mend.time_shift, work.rate)}"
            for mend in moving[:_MOST_TOLD]
        ]
        more = f", and {len(moving) - _MOST_TOLD} more" if len(moving) > _MOST_TOLD else ""
        told += f" {format_count(len(moving), 'mend')} changed the length: {', '.join(mends)}{more}."
    if spans:
        places = [
            f"{format_clock(span.start, work.rate)} to {format_clock(span.stop, work.rate)} by "
            f"{_shift_text(span.shift, work.rate, pictures)}"
            for span in spans[:_MOST_TOLD]
        ]
        more = f", and {len(spans) - _MOST_TOLD} more" if len(spans) > _MOST_TOLD else ""
        told += f" Off sync from {', from '.join(places)}{more}."
    return told


def _shift_text(frames: int, rate: int, pictures: Fraction | None) -> str:
    text = format_shift(frames, rate)
    if pictures is None or not frames:
        return text
    count = f"{frames / rate * float(pictures):+.1f}".replace("-", "−")
    return f"{text} ({count} pictures)"
