"""A wave at a fraction of its rate, for what looks at low frequencies only."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import numpy.typing as npt

from umbrick.core.filters.windows import low_pass_taps

Floats = npt.NDArray[np.float32]

_PASSED = 0.8


def decimated(wave: Floats, step: int, taps_per_step: int) -> Floats:
    """Return every ``step``-th value of a wave, from the first on, without what would fold over.

    Parameters
    ----------
    wave : ndarray, shape (n,)
        One channel.
    step : int
        How many frames become one, at least 1; with 1 the wave is returned as it is.
    taps_per_step : int
        Length of the low-pass in values of what is returned, an even number.

    Notes
    -----
    A polyphase filter (M. Bellanger, 1976) as one product of matrices: a row of ``step`` frames with each of the
    filter's pieces that are as long.
    """
    if step == 1:
        return wave
    pieces = _pieces(step, taps_per_step)
    count = -(-len(wave) // step)
    # So many rows less are put ahead as the filter delays.
    ahead = (pieces.shape[1] - taps_per_step // 2) * step - 1
    rows = np.pad(wave, (ahead, (count + pieces.shape[1] - 1) * step - ahead - len(wave))).reshape(-1, step)
    products = rows @ pieces
    return np.asarray(sum(products[piece : piece + count, -1 - piece] for piece in range(pieces.shape[1])), np.float32)


@lru_cache(maxsize=8)
def _pieces(step: int, taps_per_step: int) -> Floats:
    """Return the low-pass, piece by piece, each backward: shape ``(step, pieces)``."""
    taps = low_pass_taps(taps_per_step * step + 1, _PASSED / step).astype(np.float32)
    pieces = np.pad(taps, (0, step - 1)).reshape(-1, step)
    return np.ascontiguousarray(pieces[:, ::-1].T)
