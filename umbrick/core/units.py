"""Typed values with units, and how positions, lengths and levels are written for a person."""

from __future__ import annotations

import math
import re
from fractions import Fraction

from umbrick.core.errors import ParameterError

SILENCE_DBFS = -200.0
"""What :func:`amplitude_to_db` gives for silence and anything below, so that levels stay finite in JSON."""

_NUMBER = r"\d+(?:[.,]\d+)?(?:/\d+)?"
_CLOCK = re.compile(r"(?P<sign>[+\-−]?)(?:(?P<hours>\d+):(?=\d\d:))?(?P<minutes>\d+):(?P<seconds>\d+(?:[.,]\d+)?)")
_TERM = re.compile(
    rf"\s*(?P<sign>[+\-−]?)\s*(?P<value>{_NUMBER})\s*(?P<unit>smp|ms|s|min|h|beats?|bars?)"
    r"(?![a-zµ])(?:\s+at\s+(?P<tempo>\d+(?:[.,]\d+)?))?\s*"
)
_FRAMES = re.compile(r"[+\-−]?\d+")
_THOUSANDS = re.compile(r"(?<=\d)[ \u00a0\u2009\u202f](?=\d{3}(?!\d))")
_LONGEST_TIME = 80
BEATS_A_BAR = 4
_LEVEL = re.compile(r"^\s*(?P<value>[+\-−]?\d+(?:[.,]\d+)?)\s*(?:dB(?:FS|TP)?)?\s*$", re.IGNORECASE)


def db_to_amplitude(level_db: float) -> float:
    """Return the amplitude ratio of a level in dB."""
    return float(10.0 ** (level_db / 20.0))


def amplitude_to_db(amplitude: float) -> float:
    """Return the level of an amplitude (its size, sign ignored) in dB relative to 1.0; finite for silence."""
    size = abs(amplitude)
    return max(20.0 * math.log10(size), SILENCE_DBFS) if size > 0.0 else SILENCE_DBFS


def parse_frames(text: str, rate: int, tempo: float | None = None) -> int:
    """Return the frames meant by a typed time.

    Parameters
    ----------
    text : str
        A bare whole number counts frames; otherwise with a unit: ``30000 smp``, ``625 ms``, ``1.25 s``, ``60/96 s``,
        ``2 min``, ``4 beats at 96``, ``1 bar`` (of four beats); a sum of such, as in ``1 h 2 min`` or
        ``2 s + 30 ms``; or a clock time such as ``0:12.402`` or ``1:02:03.4``. Thousands may be set apart by spaces.
    rate : int
        Frames a second.
    tempo : float, optional
        Beats a minute, for beats without a tempo of their own.

    Raises
    ------
    ParameterError
        If the text is not a time, has no unit and is no whole number, or counts beats and there is no tempo.
    """
    if len(text) > _LONGEST_TIME:
        raise ParameterError(f"“{text[:20]}…” is not a time.", _TIMES)
    plain = _THOUSANDS.sub("", text.strip())
    if _FRAMES.fullmatch(plain):
        return int(plain.replace("−", "-"))
    if match := _CLOCK.fullmatch(plain):
        minutes = int(match["hours"] or 0) * 60 + int(match["minutes"])
        sign = -1 if match["sign"] in ("-", "−") else 1
        return sign * round((minutes * 60 + _fraction(match["seconds"])) * rate)
    if re.fullmatch(rf"[+\-−]?{_NUMBER}", plain):
        raise ParameterError(f"“{text}” has no unit.", "Say which: 1.5 s, 1.5 ms; whole numbers count frames.")
    total, at = Fraction(0), 0
    while at < len(plain) and (term := _TERM.match(plain, at)):
        if at and term["sign"] in ("-", "−"):
            break
        total += _of_term(term, rate, tempo)
        at = term.end()
    if not plain or at < len(plain):
        raise ParameterError(f"“{text}” is not a time.", _TIMES)
    return round(total)


_TIMES = "Type frames, or a unit: 30000, 380ms, 1.25s, 1 min 30 s, 0:12.402."


def _of_term(term: re.Match[str], rate: int, tempo: float | None) -> Fraction:
    """Return the frames that one number with its unit means."""
    value = _fraction(term["value"]) * (-1 if term["sign"] in ("-", "−") else 1)
    unit = term["unit"]
    if unit.startswith(("beat", "bar")):
        return value * (BEATS_A_BAR if unit.startswith("bar") else 1) * _beat(term["tempo"], tempo, rate)
    if term["tempo"]:
        raise ParameterError(f"“{term[0].strip()}” is not a time.", "A tempo goes with beats: 4 beats at 96.")
    scale = {
        "smp": Fraction(1),
        "ms": Fraction(rate, 1000),
        "s": Fraction(rate),
        "min": Fraction(rate * 60),
        "h": Fraction(rate * 3600),
    }
    return value * scale[unit]


def _beat(typed: str | None, tempo: float | None, rate: int) -> Fraction:
    beats = Fraction(typed.replace(",", ".")) if typed else Fraction(tempo or 0).limit_denominator(10**6)
    if not beats:
        raise ParameterError("Beats need a tempo.", "Type it too: 4 beats at 96.")
    return 60 * Fraction(rate) / beats


def parse_db(text: str) -> float:
    """Return the level meant by a typed ``-3``, ``-3 dB`` or ``−3 dBFS``; ParameterError if it is none."""
    match = _LEVEL.match(text)
    if not match:
        raise ParameterError(f"“{text}” is not a level.", "Type decibels, such as -3 dB.")
    return float(match["value"].replace(",", ".").replace("−", "-"))


def format_clock(frame: int, rate: int, decimals: int = 3) -> str:
    """Return a position as ``m:ss.mmm`` (``h:mm:ss.mmm`` from an hour on)."""
    units = 10**decimals
    total = round(abs(frame) * units / rate)
    seconds, fraction = divmod(total, units)
    minutes, seconds = divmod(seconds, 60)
    hours, minutes = divmod(minutes, 60)
    head = f"{hours}:{minutes:02d}:{seconds:02d}" if hours else f"{minutes}:{seconds:02d}"
    sign = "−" if frame < 0 else ""
    return f"{sign}{head}.{fraction:0{decimals}d}" if decimals else f"{sign}{head}"


def format_length(frames: int, rate: int) -> str:
    """Return a length in the unit that suits it: ``0.23 ms``, ``84.3 ms``, ``2.10 s``, ``1:30.0``."""
    seconds = frames / rate
    if seconds < 0.0995:
        return f"{seconds * 1e3:.2f} ms" if seconds < 0.00995 else f"{seconds * 1e3:.1f} ms"
    if seconds < 0.9995:
        return f"{seconds * 1e3:.0f} ms"
    return f"{seconds:.2f} s" if seconds < 59.995 else format_clock(frames, rate, 1)


def format_shift(frames: int, rate: int) -> str:
    """Return a change of length: ``0 ms``, ``+2.10 ms``, ``−84.3 ms``."""
    if not frames:
        return "0 ms"
    return f"{'+' if frames > 0 else '−'}{format_length(abs(frames), rate)}"


def format_db(level_db: float, unit: str = "dBFS", decimals: int = 1) -> str:
    """Return a level with a real minus sign, such as ``−0.1 dBFS``; ``−∞`` for silence."""
    if level_db <= SILENCE_DBFS:
        return f"−∞ {unit}".strip()
    text = f"{level_db:.{decimals}f}"
    if float(text) == 0.0:
        text = text.lstrip("-")
    elif level_db > 0:
        text = f"+{text}"
    return f"{text.replace('-', '−')} {unit}".strip()


def format_lowering(gain_db: float) -> str:
    """Return by how much a level change lowers, such as ``5.2 dB`` for −5.2; with a minus sign if it raises."""
    return format_db(-gain_db, "dB").lstrip("+")


def format_percent(share: float) -> str:
    """Return a share in percent with as many digits as it takes not to look like nothing, or like all."""
    if share in (0.0, 100.0):
        return f"{share:.0f} %"
    rest = min(share, 100.0 - share)
    if rest < 0.0001:
        return "under 0.0001 %" if share < 50 else "over 99.9999 %"
    decimals = 1 if rest >= 1 else 1 - math.floor(math.log10(rest))
    return f"{share:.{decimals}f} %"


def channel_name(channel: int, channels: int) -> str:
    """Return what a person calls a channel, counted from 0, of so many: ``left``, ``right``, ``channel 3``."""
    return ("left", "right")[channel] if channels == 2 else f"channel {channel + 1}"


def format_count(number: int, noun: str) -> str:
    """Return ``1 sample``, ``2 samples``, ``12 400 samples``."""
    return f"{format_integer(number)} {noun}" if number == 1 else f"{format_integer(number)} {noun}s"


def format_integer(number: int) -> str:
    """Return an integer with its thousands set apart by narrow no-break spaces."""
    return f"{number:,}".replace(",", "\u202f").replace("-", "−")


def _fraction(text: str) -> Fraction:
    whole, _, divisor = text.replace(",", ".").replace("−", "-").partition("/")
    if divisor and int(divisor) == 0:
        raise ParameterError(f"“{text}” divides by zero.")
    return Fraction(whole) / (Fraction(divisor) if divisor else 1)
