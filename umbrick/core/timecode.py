"""Positions as hours, minutes, seconds and pictures, as film and video count them."""

from __future__ import annotations

import re
from fractions import Fraction

from umbrick.core.errors import ParameterError

_TIMECODE = re.compile(r"(\d{1,2}):(\d{1,2}):(\d{1,2})[:;](\d{1,3})")
LOWEST_RATE, HIGHEST_RATE = 1, 240


def format_timecode(seconds: float, rate: Fraction) -> str:
    """Return a time as ``hh:mm:ss:ff``, counting every picture (none are dropped at 29.97 a second)."""
    whole = round(rate)
    sign = "−" if seconds < 0 else ""
    pictures = int(abs(seconds) * float(rate) + 1e-6)
    second, picture = divmod(pictures, whole)
    return f"{sign}{second // 3600:02}:{second // 60 % 60:02}:{second % 60:02}:{picture:02}"


def parse_timecode(text: str, rate: Fraction) -> float:
    """Return the seconds that a timecode means: the beginning of that picture.

    Raises
    ------
    ParameterError
        If it is none, or counts more pictures than a second has.
    """
    whole = round(rate)
    match = _TIMECODE.fullmatch(text.strip())
    if match is None:
        raise ParameterError(f"“{text[:20]}” is not a timecode.", "Type it as 00:01:23:04: hours to pictures.")
    hours, minutes, seconds, picture = (int(part) for part in match.groups())
    if minutes > 59 or seconds > 59 or picture >= whole:
        raise ParameterError(f"“{text[:20]}” is not a timecode at {rate_text(rate)} pictures a second.")
    return float(((hours * 60 + minutes) * 60 + seconds) * whole + picture) / float(rate)


def parse_rate(text: str) -> Fraction:
    """Return pictures a second as typed: ``25``, ``23.976``, ``30000/1001``; ParameterError if it is none."""
    try:
        rate = Fraction(text.strip().replace(",", "."))
    except (ValueError, ZeroDivisionError) as error:
        raise ParameterError(f"“{text[:20]}” is not a number of pictures a second.") from error
    known = {
        round(float(exact), 2): exact for exact in (Fraction(24000, 1001), Fraction(30000, 1001), Fraction(60000, 1001))
    }
    if not LOWEST_RATE <= rate <= HIGHEST_RATE:
        raise ParameterError(f"There are {LOWEST_RATE} to {HIGHEST_RATE} pictures a second, not {text.strip()[:20]}.")
    return known.get(round(float(rate), 2), rate)


def rate_text(rate: Fraction) -> str:
    """Return pictures a second in words: ``25``, ``29.97``."""
    return f"{float(rate):.3f}".rstrip("0").rstrip(".")
