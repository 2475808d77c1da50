"""The trust band: how far rebuilt samples may be from what they were, as a model of the sound around them has it."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.model.autoregression import deviations, modelled
from umbrick.core.sound.source import Source

_MOST_ORDER, _LEAST_ORDER = 256, 32
_CONTEXT_ORDERS = 4
_LONGEST_SECONDS = 0.3
_OPEN_DB = -6.0
_LEAST_OPEN_SECONDS = 0.005


class TrustBand(NamedTuple):
    """Rebuilt frames from ``start`` on of one channel, and one standard deviation of each.

    ``doubt_db`` is the level of the deviations against that of the sound around.
    """

    start: int
    deviation: npt.NDArray[np.float64]
    doubt_db: float

    def is_open(self, rate: int) -> bool:
        """Whether the sound around hardly tells what was there."""
        return self.doubt_db > _OPEN_DB and len(self.deviation) >= _LEAST_OPEN_SECONDS * rate


def trust_band(source: Source, start: int, stop: int, channel: int) -> TrustBand | None:
    """Return the trust band of rebuilt frames, or None where nothing can be said: in silence, or of a long stretch.

    Parameters
    ----------
    source : Source
        The mended sound.
    start, stop, channel : int
        What was rebuilt.

    Notes
    -----
    The deviation is that of the posterior of an autoregressive process given all samples outside of the stretch; that
    of samples known to lie beyond a rail is at most so large.
    """
    length = stop - start
    if not 0 < length <= _LONGEST_SECONDS * source.rate:
        return None
    order = int(np.clip(3 * length, _LEAST_ORDER, _MOST_ORDER))
    reach = max(_CONTEXT_ORDERS * order, 1024)
    first, last = max(0, start - reach), min(source.frames, stop + reach)
    wave = source.read(first, last)[:, channel].astype(np.float64)
    model = modelled(wave, order)
    if model is None:
        return None
    deviation = deviations(model, length)
    outside = np.concatenate([wave[: start - first], wave[stop - first :]])
    level = float(np.mean(outside**2)) + 1e-12 if len(outside) else 1.0
    return TrustBand(start, deviation, float(10 * np.log10(float(np.mean(deviation**2)) / level + 1e-12)))
