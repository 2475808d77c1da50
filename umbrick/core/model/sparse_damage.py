"""Taking damage out of a stretch without being told which of its samples are damaged, or how much."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from scipy.linalg import LinAlgError, toeplitz
from scipy.linalg.lapack import dpotrf, dpotri, dpotrs

from umbrick.core.model.autoregression import Model
from umbrick.core.model.interpolation import normal_equations

Wave = npt.NDArray[np.float64]

_TURNS = 6
_ODDS = 9.0
"""So many times as large as chance explains, in power, a sample's own damage must be to be believed."""


def without_damage(wave: Wave, around: Wave, start: int, stop: int, model: Model, error_power: float) -> Wave:
    """Return frames ``start`` to ``stop`` of a wave without what was added to some of them.

    Parameters
    ----------
    wave : ndarray, shape (n,)
        The damaged sound.
    around : ndarray, shape (n,)
        The sound outside the stretch, as far as it is known to be sound; inside it is not looked at.
    start, stop : int
        The stretch: what is damaged, and some samples beside it. At least ``model.order`` samples must lie on either
        side.
    model : Model
        Of the sound around.
    error_power : float
        Mean square of its prediction error near the stretch, greater than 0.

    Notes
    -----
    What is heard is the sound, which is autoregressive, and damage, of which each sample has a variance of its own.
    The variances are those under which what is heard is likeliest (automatic relevance determination: D. J. C.
    MacKay, 1992; M. E. Tipping, 2001); most come out as nought, and those samples stay as they are. One that is hardly
    damaged is hardly changed, where interpolation would throw away what it still tells (additive noise: S. J. Godsill,
    P. J. W. Rayner, "Digital Audio Restoration", 1998).
    """
    equations = normal_equations(around, start, stop, model)
    try:
        spread = np.linalg.inv(toeplitz(equations.steadied))
        off = wave[start:stop] - spread @ equations.pull
        damage = _damage(off, error_power * spread)
    except LinAlgError:
        return wave[start:stop].copy()
    return wave[start:stop] - damage


def _damage(off: Wave, spread: Wave) -> Wave:
    """Return what of a deviation from what is expected is damage; ``spread`` is the covariance of what is not."""
    variance = np.maximum(off**2, 1e-16)
    for _ in range(_TURNS):
        weighed, own = _weighed(off, spread, variance)
        # Each sample as the others tell it, its own damage left out: how far it is off, and how far it may be.
        expected = np.maximum(1.0 / own - variance, 1e-18)
        far = np.square(weighed / own)
        variance = np.where(far > _ODDS * expected, far - expected, 0.0)
    return np.asarray(variance * _weighed(off, spread, variance)[0])


def _weighed(off: Wave, spread: Wave, variance: Wave) -> tuple[Wave, Wave]:
    """Return the deviation weighed by the precision of sound and damage together, and that matrix's diagonal."""
    covariance = spread.copy()
    covariance.flat[:: len(off) + 1] += variance
    # LAPACK's own, as in interpolation: the matrices are small, symmetric and many.
    factor, not_definite = dpotrf(covariance, lower=1)
    if not_definite:
        raise LinAlgError
    weighed, precision = dpotrs(factor, off, lower=1)[0], dpotri(factor, lower=1)[0]
    return weighed, np.maximum(precision.diagonal(), 1e-18)
