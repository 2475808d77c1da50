"""An area at its place in a version: gathered from a point, or from where a line was found."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from umbrick.core.areas.area import Area, Join
from umbrick.core.areas.gather import CONTEXT_SECONDS, Gathering, gathered
from umbrick.core.areas.shapes import Box
from umbrick.core.areas.transform import ShortTime
from umbrick.core.areas.treating import RAMP_SECONDS, transform_for
from umbrick.core.sound.source import Source

_BESIDE_SECONDS, _BESIDE_SHARE, _BESIDE_HZ = 0.06, 0.06, 60.0
_LEAST_SEEN = 0.5


class PlacedArea(NamedTuple):
    """A span, and an area counted from its start."""

    start: int
    stop: int
    area: Area


def placed(area: Area, frames: int, rate: int) -> PlacedArea:
    """Return an area that is counted from the start of a recording of so many frames with the place it takes.

    The place is a little longer, so that what is done to it is in full where the area begins.
    """
    start, stop, _, _ = area.extent
    beside = round(RAMP_SECONDS * rate)
    first, last = max(0, int(start) - beside), min(frames, int(np.ceil(stop)) + beside)
    return PlacedArea(first, max(last, first + 1), area.moved(-first))


def gathered_at(
    source: Source, channel: int, frame: int, hz: float, gathering: Gathering, view: tuple[int, int] | None = None
) -> PlacedArea | None:
    """Return what goes on like a place in time and frequency of a channel; None if nothing stands out there.

    With ``view`` it is looked for in that span, and else within a few seconds.
    """
    reach = round(CONTEXT_SECONDS * source.rate)
    first, last = view or (frame - reach, frame + reach)
    first, last = max(0, min(first, frame)), min(source.frames, max(last, frame + 1))
    wave = source.read(first, last)[:, channel].astype(np.float64)
    area = gathered(wave, frame - first, hz, source.rate, gathering)
    return placed(area.moved(first), source.frames, source.rate) if area is not None else None


def line_at(source: Source, channel: int, start: int, stop: int, band_hz: tuple[float, float]) -> PlacedArea:
    """Return the area of a tone that was found in a span and a band: what goes on like its loudest moment, or else the
    band itself."""
    rate = source.rate
    low, high = band_hz
    beside = round(_BESIDE_SECONDS * rate)
    box = Box(
        max(0, start - beside),
        min(source.frames, stop + beside),
        max(0.0, low * (1 - _BESIDE_SHARE) - _BESIDE_HZ),
        high * (1 + _BESIDE_SHARE) + _BESIDE_HZ,
    )
    reach = round(CONTEXT_SECONDS * rate)
    first, last = max(0, start - reach), min(source.frames, stop + reach)
    wave = source.read(first, last)[:, channel].astype(np.float64)
    transform: ShortTime = transform_for(Area.of(box), rate)
    levels = np.abs(transform.spectra(wave))
    rows = slice(
        (start - first) // transform.hop, max((stop - first) // transform.hop, (start - first) // transform.hop + 1)
    )
    bins = slice(int(low * transform.size / rate), int(np.ceil(high * transform.size / rate)) + 1)
    part = levels[rows, bins]
    row, column = np.unravel_index(int(part.argmax()), part.shape)
    at, hz = (rows.start + int(row)) * transform.hop, (bins.start + int(column)) * rate / transform.size
    area = gathered(wave, at, hz, rate)
    if area is not None:
        begin, end, _, _ = area.extent
        seen = min(end + first, box.stop) - max(begin + first, box.start)
        if seen >= _LEAST_SEEN * (stop - start):
            return _met(area.moved(first), box, source.frames, rate)
    return placed(Area.of(box), source.frames, rate)


def _met(area: Area, box: Box, frames: int, rate: int) -> PlacedArea:
    """Return what an area and a box have in common."""
    start, stop, _, _ = area.extent
    met = placed(Area.of(Box(max(start, box.start), min(stop, box.stop), box.low_hz, box.high_hz)), frames, rate)
    return met._replace(area=area.joined(Join.MEET, box).moved(-met.start))
