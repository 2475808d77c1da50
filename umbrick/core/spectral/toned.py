"""Room tone made anew from a print of it: noise of the same colour, as long as it is wanted."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from umbrick.core.spectral.noise_print import finest, line_powers

_SEED = 20261
_BEFORE = 1 << 16
"""Windows are counted from before the recording's start."""


def room_tone_of(
    levels_db: Sequence[Sequence[float]], alike: float, rate: int, start: int, stop: int
) -> npt.NDArray[np.float64]:
    """Return the frames of a span of endless room tone; the same ones, whatever else is asked for.

    Parameters
    ----------
    levels_db : sequence of sequence of float
        A print for every channel; see :mod:`noise_print`.
    alike : float
        The correlation of the channels, from 0 to 1.
    rate, start, stop : int
        Frames a second, and the span.

    Returns
    -------
    ndarray, shape (stop − start, channels)

    Notes
    -----
    Noise is told by its spectrum alone: its lines are independent and normal (A. Papoulis, 1965). So those of every
    window are drawn by the window's own number, and windows are laid over one another at constant power.
    """
    grid = finest(rate)
    first, last = grid.over(start, stop)
    lines = grid.size // 2 + 1
    # Half the power of a whole window is what the grid's own leaves of it, as a print tells; the other is the draw's.
    sizes = [np.sqrt(line_powers(own, rate, grid)) for own in levels_db]
    drawn = np.empty((1 + len(sizes), last - first, lines), np.complex64)
    for row, number in enumerate(range(first, last)):
        random = np.random.default_rng((_SEED, _BEFORE + number))
        drawn[:, row] = random.standard_normal((len(drawn), lines, 2), np.float32).view(np.complex64)[..., 0]
    made = np.empty((stop - start, len(sizes)))
    for channel, size in enumerate(sizes):
        both = np.sqrt(alike) * drawn[0] + np.sqrt(1 - alike) * drawn[1 + channel]
        made[:, channel] = grid.sound((both * size).astype(np.complex64), first, start, stop)
    return made
