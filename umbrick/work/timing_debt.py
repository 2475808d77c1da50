"""The timing debt in words: how far the end of a recording has moved, and which mends moved it."""

from __future__ import annotations

from umbrick.core.units import format_clock, format_count, format_shift
from umbrick.work.work import Work

_MOST_TOLD = 4


def debt_of(work: Work) -> str:
    """Return the timing debt as a length with its sign."""
    return format_shift(work.history.timing_debt, work.rate)


def debt_explained(work: Work) -> str:
    """Return what makes up the timing debt, the largest shifts first."""
    moving = [entry.mend for entry in work.history.ledger if entry.is_on and entry.mend.time_shift]
    if not moving:
        return "Timing debt 0 ms: no mend has changed the length, so everything is where it was in the original."
    moving.sort(key=lambda mend: -abs(mend.time_shift))
    told = [
        f"{mend.method} at {format_clock(mend.start, work.rate)} {format_shift(mend.time_shift, work.rate)}"
        for mend in moving[:_MOST_TOLD]
    ]
    more = f", and {len(moving) - _MOST_TOLD} more" if len(moving) > _MOST_TOLD else ""
    debt = work.history.timing_debt
    end = "is where it was" if not debt else f"comes {'later' if debt > 0 else 'earlier'} than in the original"
    return (
        f"Timing debt {debt_of(work)}: the end {end}. {format_count(len(moving), 'mend')} changed the length: "
        f"{', '.join(told)}{more}."
    )
