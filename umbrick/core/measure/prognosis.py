"""The honest estimate before work starts: what of a recording can be mended, and what is lost."""

from __future__ import annotations

from typing import Literal, NamedTuple

import numpy as np
import numpy.typing as npt

Grade = Literal["good", "fair", "poor"]
_GRADES: tuple[Grade, ...] = ("good", "fair", "poor")

_BRIDGED_SECONDS, _LOST_SECONDS = 0.03, 0.4
"""Up to this length holes are filled from both sides so that one hardly hears it (see the gaps benchmark); from this
length on whole syllables are gone."""

_LOST_SHARE = 0.02
_NOISY_DB, _BURIED_DB = 25.0, 15.0
"""Loud passages over the noise below which taking it out costs some of the sound, and much of it."""


class Outlook(NamedTuple):
    """``good``, ``fair`` or ``poor``, and the sentence that says why."""

    grade: Grade
    reason: str


NOTHING_WRONG = Outlook("good", "Nothing is clipped, missing or buried in noise.")


def worst(outlooks: list[Outlook]) -> Outlook:
    """Return the outlook that decides a recording's: of the worst, the first; one that nothing is wrong is no reason.

    ``outlooks`` has at least one.
    """
    return max(outlooks, key=lambda outlook: (_GRADES.index(outlook.grade), outlook is not NOTHING_WRONG))


def holes_outlook(lengths_seconds: npt.NDArray[np.float64], whole_seconds: float) -> Outlook:
    """Return what mending holes of these lengths, in a recording of that length, can be expected to give."""
    if not len(lengths_seconds):
        return NOTHING_WRONG
    longest, lost = float(lengths_seconds.max()), float(lengths_seconds.sum())
    share = lost / max(whole_seconds, 1e-9)
    count, longest_ms = len(lengths_seconds), f"{1e3 * longest:.0f} ms"
    places, at_once = ("one place", longest_ms) if count == 1 else (f"{count} places", f"up to {longest_ms} at once")
    if longest >= _LOST_SECONDS or share >= _LOST_SHARE:
        return Outlook(
            "poor",
            f"{lost:.1f} s of sound are missing in {places}, {at_once}: "
            "what was there cannot be brought back, only closed up or filled from elsewhere.",
        )
    if longest > _BRIDGED_SECONDS:
        return Outlook(
            "fair",
            f"Sound is missing in {places}, {at_once}: expect what is short to be filled, what is long smoothed over.",
        )
    return Outlook("good", f"Sound is missing in {places}, {at_once}: expect it to be filled.")


def noise_outlook(over_noise_db: float | None) -> Outlook:
    """Return what taking out noise can be expected to give, by how far loud passages are over it; None is no noise."""
    if over_noise_db is None or over_noise_db >= _NOISY_DB:
        return NOTHING_WRONG
    if over_noise_db < _BURIED_DB:
        return Outlook(
            "poor", f"The noise is just {over_noise_db:.0f} dB under the loud passages: quiet sound is lost in it."
        )
    return Outlook(
        "fair",
        f"The noise is {over_noise_db:.0f} dB under the loud passages: less of it costs some of the quiet sound.",
    )
