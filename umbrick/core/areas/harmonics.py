"""At how many multiples of its frequencies an area's sound is heard too."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from umbrick.core.areas.area import Area
from umbrick.core.areas.around import foretold
from umbrick.core.areas.treating import softly_covered, transform_for
from umbrick.core.sound.source import Source

_MOST = 8
_CONTEXT_SECONDS = 1.0
_STANDS_OUT = 10 ** (6 / 10)
_LEAST_COVERED = 0.5


def sounding_harmonics(source: Source, channel: int, at: int, area: Area) -> int:
    """Return the highest multiple at which an area stands out of what is around it there, 1 if none does.

    Parameters
    ----------
    source : Source
    channel : int
    at : int
        Where the area's place begins.
    area : Area
    """
    rate = source.rate
    start, stop, low, _ = area.extent
    reach = round(_CONTEXT_SECONDS * rate)
    first, last = max(0, at + int(start) - reach), min(source.frames, at + int(np.ceil(stop)) + reach)
    wave = source.read(first, last)[:, channel].astype(np.float64)
    transform = transform_for(area, rate)
    power = np.square(np.abs(transform.spectra(wave)))
    cells = transform.cells(len(wave), rate, first - at)
    alone = replace(area, harmonics=1)
    highest = 1
    for number in range(2, _MOST + 1):
        if number * low >= rate / 2:
            break
        covered = softly_covered(alone.stretched(1.0, number), cells, 0.0)
        inside = covered > _LEAST_COVERED
        cells_by = transform.hop / rate, rate / transform.size
        # A voice goes on above and below, and an accent begins anew: only a tone stands out of both.
        around = (foretold(power, covered, *cells_by, sides)[inside].sum() for sides in ("both", "beside"))
        if inside.any() and power[inside].sum() > _STANDS_OUT * max(around):
            highest = number
        elif number > highest + 1:
            break
    return highest
