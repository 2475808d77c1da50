"""Redrawing samples: a straight line, a curve, a smoothing, or one value."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import numpy.typing as npt
import scipy

from umbrick.core.mend.making import standing_for
from umbrick.core.mend.method import Method, Reworked, Reworking, Stretch
from umbrick.core.mend.parameters import Parameter, Parameters
from umbrick.core.mend.place import Place
from umbrick.core.timeline.patch import Nature, Patch
from umbrick.core.timeline.version import Version

Wave = npt.NDArray[np.float64]

FREEHAND = "freehand"
"""The shape that a mend is told to have when its samples were drawn by hand."""

_SIDE = 4
"""Samples on each side that redrawing looks at."""

_SMOOTHED_OVER = 7
_SMOOTHED_ORDER = 2


def straight(wave: Wave, first: int, last: int) -> Wave:
    """Return the samples ``first`` to ``last`` on the line between their neighbours, shape ``(n,)``."""
    left, right = _neighbours(wave, first, last)
    t = np.arange(1, last - first + 1) / (last - first + 1)
    return np.asarray(left + (right - left) * t)


def curved(wave: Wave, first: int, last: int) -> Wave:
    """Return the samples on the curve that goes on with the level, slope and bend of both sides.

    For up to two samples it is the polynomial of least degree through three untouched samples on either side; for
    longer runs that would swing, so that level and slope alone are kept (Hermite's cubic, 1878).
    """
    count = last - first
    before, after = wave[max(0, first - 3) : first], wave[last : last + 3]
    if count <= 2 and len(before) == len(after) == 3:
        at = np.concatenate([np.arange(-3, 0), np.arange(count, count + 3)])
        return np.asarray(_through(at.astype(np.float64), np.concatenate([before, after]), np.arange(count)))
    left, right = _neighbours(wave, first, last)
    slope_in, slope_out = _slope(before), -_slope(after[::-1])
    span = count + 1
    t = np.arange(1, span) / span
    return np.asarray(
        (2 * t**3 - 3 * t**2 + 1) * left
        + (t**3 - 2 * t**2 + t) * span * slope_in
        + (3 * t**2 - 2 * t**3) * right
        + (t**3 - t**2) * span * slope_out
    )


def smoothed(wave: Wave, first: int, last: int) -> Wave:
    """Return the samples smoothed (Savitzky and Golay 1964, parabolas over seven samples), less so at the edges."""
    start, stop = max(0, first - _SMOOTHED_OVER), min(len(wave), last + _SMOOTHED_OVER)
    part = wave[start:stop]
    if len(part) < _SMOOTHED_OVER:
        return wave[first:last].copy()
    smooth = scipy.signal.savgol_filter(part, _SMOOTHED_OVER, _SMOOTHED_ORDER)[first - start : last - start]
    count = last - first
    from_edge = np.minimum(np.arange(count), np.arange(count)[::-1]) + 1
    share = np.minimum(1.0, from_edge / 2) if count > 2 else np.ones(count)
    return np.asarray(wave[first:last] + share * (smooth - wave[first:last]))


def drawn(version: Version, place: Place, values: npt.ArrayLike) -> Stretch:
    """Return the stretch in which the channels of a place have given samples.

    Parameters
    ----------
    version : Version
    place : Place
    values : array_like, shape (frames of the place, channels of the place)
    """
    samples = version.read_exact(place.start, place.stop)
    samples[:, list(place.channels)] = np.asarray(values, np.float32)
    patch = Patch(samples, version.rate, Nature.REBUILT)
    return Stretch(place.start, place.stop, standing_for(version, place.start, place.stop, patch))


def rework(version: Version, place: Place, parameters: Parameters, _: Callable[[], bool]) -> Reworked:
    """Return the place with its samples redrawn; its neighbours are as they were."""
    start, stop = max(0, place.start - 2 * _SIDE), min(version.frames, place.stop + 2 * _SIDE)
    around = version.read_exact(start, stop)
    first, last = place.start - start, place.stop - start
    shape = str(parameters["shape"])
    values = np.empty((last - first, len(place.channels)))
    for column, channel in enumerate(place.channels):
        if shape == "value":
            values[:, column] = float(parameters["value"])
        else:
            values[:, column] = _SHAPES[shape](around[:, channel], first, last)
    return Reworked((drawn(version, place, values),), place, parameters)


def _neighbours(wave: Wave, first: int, last: int) -> tuple[float, float]:
    """Return the samples beside a run; at an end of the sound the other side stands for both."""
    left = wave[first - 1] if first > 0 else None
    right = wave[last] if last < len(wave) else None
    if left is None:
        left = right if right is not None else 0.0
    return float(left), float(left if right is None else right)


def _slope(side: Wave) -> float:
    """Return the slope at the last of up to three samples, exact for a parabola."""
    if len(side) == 3:
        return float(1.5 * side[2] - 2 * side[1] + 0.5 * side[0])
    return float(side[-1] - side[-2]) if len(side) == 2 else 0.0


def _through(at: Wave, values: Wave, wanted: npt.NDArray[np.int64]) -> Wave:
    """Return the polynomial through points at other places (Lagrange)."""
    result = np.zeros(len(wanted))
    for index, own in enumerate(at):
        others = np.delete(at, index)
        result += values[index] * np.prod((wanted[:, np.newaxis] - others) / (own - others), axis=1)
    return result


_SHAPES = {"curve": curved, "line": straight, "smooth": smoothed}

METHOD = Method(
    name="redraw",
    title="Redraw",
    summary="Sets samples by hand: on a curve, on a straight line, smoothed, or to one value.",
    parameters=(
        Parameter("shape", "choice", "curve", "what the samples become", (*_SHAPES, "value")),
        Parameter("value", "number", 0.0, "the value of every sample, for the shape value", (), "", -8.0, 8.0),
    ),
    does=Reworking(rework),
)
