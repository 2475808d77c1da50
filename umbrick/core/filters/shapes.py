"""The shapes of filters: cuts, shelves, bells and notches as second-order sections.

R. Bristow-Johnson, "Cookbook formulae for audio EQ biquad filter coefficients", 1998.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from umbrick.core.errors import ParameterError
from umbrick.core.filters.recursive import Sections, Wave, magnitude

SHAPES = ("low_cut", "high_cut", "low_shelf", "high_shelf", "bell", "notch")
CUTS = ("low_cut", "high_cut")
LEVELLING = ("low_shelf", "high_shelf", "bell")
"""Shapes that have a gain."""

LOWEST_HZ, HIGHEST_HZ = 5.0, 96000.0
LEAST_GAIN_DB, MOST_GAIN_DB = -48.0, 24.0
LEAST_Q, MOST_Q = 0.1, 50.0
USUAL_Q = 0.7071
SLOPES_DB = (12, 24, 48)
MOST_POINTS = 24
_USUAL = (0.0, 0.0, USUAL_Q, 24.0)
"""Frequency, gain, quality and slope where they are not written."""

_HIGHEST_SHARE = 0.49
"""Of the rate: a filter set higher is taken to lie there."""

_NOTCH_WIDTH = 1.554
"""A notch is laid twice, so that its response has no corner; so much narrower each, it is as wide as one."""


@dataclass(frozen=True, slots=True)
class Point:
    """One filter: shape, frequency in Hz, gain in dB (shelves, bells), quality, and slope in dB an octave (cuts).

    At a cut's frequency the level is the quality, −3 dB at the usual one; a bell or notch is ``frequency_hz / q`` wide.
    """

    shape: str
    frequency_hz: float
    gain_db: float = 0.0
    q: float = USUAL_Q
    slope_db: int = 24

    def __post_init__(self) -> None:
        if self.shape not in SHAPES:
            raise ParameterError(f"“{self.shape}” is not a filter.", f"There are {', '.join(SHAPES)}.")
        if self.slope_db not in SLOPES_DB:
            raise ParameterError(f"A cut is {', '.join(map(str, SLOPES_DB))} dB an octave steep, not {self.slope_db}.")
        for value, low, high, unit in (
            (self.frequency_hz, LOWEST_HZ, HIGHEST_HZ, "Hz"),
            (self.gain_db, LEAST_GAIN_DB, MOST_GAIN_DB, "dB"),
            (self.q, LEAST_Q, MOST_Q, "of quality"),
        ):
            if not low <= value <= high:
                raise ParameterError(f"A filter's value lies from {low:g} to {high:g} {unit}, not at {value:g}.")

    @property
    def changes_nothing(self) -> bool:
        """Whether it leaves all sound as it is."""
        return self.shape in LEVELLING and self.gain_db == 0

    @property
    def text(self) -> str:
        """The filter as :func:`parsed_points` reads it."""
        return f"{self.shape}:{self.frequency_hz:g}:{self.gain_db:g}:{self.q:g}:{self.slope_db}"

    def sections(self, rate: float) -> Sections:
        """Return its sections at a rate."""
        hz = min(self.frequency_hz, _HIGHEST_SHARE * rate)
        angle = 2 * np.pi * hz / rate
        if self.shape == "notch":
            return np.repeat(_notch(angle, _NOTCH_WIDTH * self.q), 2, axis=0)
        if self.shape in CUTS:
            return np.concatenate([cut(angle, q, self.shape == "low_cut") for q in self._qualities()])
        size = 10 ** (self.gain_db / 40)
        if self.shape == "bell":
            return _bell(angle, self.q, size)
        return shelf(angle, self.q, size, self.shape == "low_shelf")

    def _qualities(self) -> list[float]:
        """Return the qualities of a cut's sections: those of Butterworth's filter, the sharpest as much sharper."""
        count = self.slope_db // 12
        angles = np.pi * (2 * np.arange(count) + 1) / (4 * count)
        qualities = sorted((1 / (2 * np.cos(angles))).tolist())
        qualities[-1] *= self.q * np.sqrt(2)
        return qualities


def parsed_points(text: str) -> tuple[Point, ...]:
    """Return filters written as ``SHAPE:HZ[:DB[:Q[:SLOPE]]]``, with spaces between them.

    Raises
    ------
    ParameterError
        If one is not written so, has a value out of range, or there are too many.
    """
    words = text.split()
    if len(words) > MOST_POINTS:
        raise ParameterError(f"One step has up to {MOST_POINTS} filters.")
    points = []
    for word in words:
        shape, *values = word.replace("−", "-").split(":")
        try:
            numbers = [float(value) for value in values]
        except ValueError:
            numbers = []
        if not 1 <= len(numbers) <= 4 or not np.isfinite(numbers).all():
            raise ParameterError(f"“{word}” is not a filter.", "Write it as SHAPE:HZ:DB:Q, such as bell:3000:-4:1.4.")
        hz, gain_db, q, slope_db = numbers + list(_USUAL[len(numbers) :])
        points.append(Point(shape, hz, gain_db, q, int(slope_db)))
    return tuple(points)


def response(points: Iterable[Point], rate: float, count: int) -> Wave:
    """Return the amplitude of filters one after another, at ``count`` frequencies from 0 to half the rate."""
    return response_at(points, rate, np.arange(count) * rate / (2 * (count - 1)))


def response_at(points: Iterable[Point], rate: float, hz: Wave) -> Wave:
    """Return the amplitude of filters one after another, at some frequencies."""
    made = np.ones(len(hz))
    for point in points:
        made *= magnitude(point.sections(rate), 2 * np.pi * hz / rate)
    return made


def cut(angle: float, q: float, is_low: bool) -> Sections:
    """Return a second-order cut at an angle of the unit circle: of what lies lower, or else of what lies higher."""
    alpha, cosine = np.sin(angle) / (2 * q), np.cos(angle)
    side = 1 + cosine if is_low else 1 - cosine
    middle = -side if is_low else side
    return _row([side / 2, middle, side / 2], [1 + alpha, -2 * cosine, 1 - alpha])


def shelf(angle: float, q: float, size: float, is_low: bool) -> Sections:
    """Return a shelf whose level, below or else above an angle of the unit circle, is the square of a size."""
    alpha, root = np.sin(angle) / (2 * q), np.sqrt(size)
    cosine = np.cos(angle) if is_low else -np.cos(angle)
    up, down, sign = size + 1, size - 1, 1 if is_low else -1
    b = [
        size * (up - down * cosine + 2 * root * alpha),
        sign * 2 * size * (down - up * cosine),
        size * (up - down * cosine - 2 * root * alpha),
    ]
    a = [up + down * cosine + 2 * root * alpha, sign * -2 * (down + up * cosine), up + down * cosine - 2 * root * alpha]
    return _row(b, a)


def _row(b: list[float], a: list[float]) -> Sections:
    return np.array([[*b, *a]]) / a[0]


def _notch(angle: float, q: float) -> Sections:
    alpha, cosine = np.sin(angle) / (2 * q), np.cos(angle)
    return _row([1.0, -2 * cosine, 1.0], [1 + alpha, -2 * cosine, 1 - alpha])


def _bell(angle: float, q: float, size: float) -> Sections:
    alpha, cosine = np.sin(angle) / (2 * q), np.cos(angle)
    return _row([1 + alpha * size, -2 * cosine, 1 - alpha * size], [1 + alpha / size, -2 * cosine, 1 - alpha / size])
