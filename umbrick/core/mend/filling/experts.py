"""Rebuilding a gap from several opinions at once: the sound's own resonances, donors, and the other channels.

Each opinion is an autoregressive model: of the sound itself, or of the difference between the sound and a donor that
was laid over it. A model says how unlikely any filling is; what is likeliest to all of them together solves one system
of equations, in which each counts the more the less error it leaves. A poor donor differs from the sound by as much as
two sounds do and hardly counts; a good one decides.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.linalg import lstsq, matmul_toeplitz

from umbrick.core.mend.filling.donors import donors
from umbrick.core.model.autoregression import Model, modelled
from umbrick.core.model.interpolation import Normal, interpolated, normal_equations
from umbrick.core.sound.source import ArraySource

Wave = npt.NDArray[np.float64]
Mask = npt.NDArray[np.bool_]

_DONORS = 4
_SWEEPS = 3
_DIFFERENCE_SWEEPS = 2
_CHANCE = 0.5
"""What an unrelated sound of the same colour says, as a share of what the sound itself says: that much is taken off."""

_LONG_SECONDS = 0.005
"""From this length on nothing is taken off: the sound's own model says little then, and any donor is better."""

ROOM_TAPS = 16
"""Length of the filter by which one channel is made like another."""


class Expert(NamedTuple):
    """A sound laid over another one, levelled to it; how much its opinion counts, as a factor; and what it got wrong
    where it was tried, if what it differs by beside the gap does not tell."""

    sound: Wave
    counts: float = 1.0
    errors: tuple[Wave, ...] = ()


def agreed(
    wave: Wave, start: int, stop: int, order: int, noise_share: float, others: Sequence[Expert], rate: int
) -> Wave:
    """Return a gap's samples as the sound's model and those of its differences from other sounds have them together.

    Parameters
    ----------
    wave : ndarray, shape (n,)
        The sound on both sides; what it holds in the gap is not looked at. At least ``order`` samples on either side.
    start, stop : int
        The gap.
    order : int
        Order of all models.
    noise_share : float
        As for :func:`modelled`.
    others : sequence of Expert
        Sounds of shape (n,) laid over the wave.
    rate : int

    References
    ----------
    A product of experts (G. E. Hinton, 1999) of autoregressive interpolators (Janssen et al., 1986). That donors are
    heard through models of what they differ by is ours.
    """
    own, model = interpolated(wave, start, stop, order, _SWEEPS, noise_share)
    if model is None:
        return own
    filled = wave.copy()
    filled[start:stop] = own
    model = modelled(filled, order, noise_share) or model
    equations = normal_equations(filled, start, stop, model).scaled(1 / model.error_power)
    chance = _CHANCE if stop - start < _LONG_SECONDS * rate else 0.0
    for other in others:
        said = _difference(filled, other.sound, start, stop, order, noise_share)
        if said is None:
            return other.sound[start:stop].copy()
        difference_model, pull = said
        weight = other.counts / _error_power(other, difference_model) - chance / model.error_power
        if weight > 0:
            equations += pull.scaled(weight)
    return equations.solved()


def _error_power(expert: Expert, model: Model) -> float:
    """Return the mean square of what an expert leaves unforeseen, by the model of its difference."""
    unforeseen = [float(np.sum(np.convolve(error, model.error_filter) ** 2)) / len(error) for error in expert.errors]
    return max(model.error_power, float(np.mean(unforeseen))) if unforeseen else model.error_power


def _difference(
    wave: Wave, other: Wave, start: int, stop: int, order: int, noise_share: float
) -> tuple[Model, Normal] | None:
    """Return what another sound says of a gap, through the model of its difference; None if there is no difference."""
    difference = wave - other
    difference[start:stop], model = interpolated(difference, start, stop, order, _DIFFERENCE_SWEEPS, noise_share)
    model = model and modelled(difference, order, noise_share)
    if model is None:
        return None
    equations = normal_equations(difference, start, stop, model)
    there = np.asarray(matmul_toeplitz(equations.column, other[start:stop], check_finite=False))
    return model, Normal(equations.column, equations.pull + there)


def donated(sound: Wave, start: int, stop: int, channels: list[int], damage: Mask, rate: int, reach: int) -> list[Wave]:
    """Return sounds like what is around a gap, each of shape ``(stop − start + 2 · reach, channels)``, levelled.

    Parameters
    ----------
    sound : ndarray, shape (frames, channels)
        With something sensible in the gap.
    start, stop : int
        The gap.
    channels : list of int
        Those that are to be filled, and matched.
    damage : ndarray of bool, shape (frames,)
        What no donor may hold, besides the gap itself.
    rate, reach : int
        Frames a second, and frames wanted on either side.
    """
    source = ArraySource(sound.astype(np.float32), rate, "around the gap")
    laid = []
    for donor in donors(source, start, stop, channels, _DONORS, damage):
        first, last = donor.start - reach, donor.start + stop - start + reach
        if first >= 0 and last <= len(sound):
            laid.append(donor.laid(sound[first:last][:, channels]))
    return laid


def heard_elsewhere(wave: Wave, other: Wave, intact: Mask) -> Wave:
    """Return another channel of the same moment, filtered to be as like the wave as it can be where both are intact.

    The filter is a short one found by least squares (N. Wiener, 1949): it fits level, colour and a shift of some
    samples.
    """
    half = ROOM_TAPS // 2
    delayed = np.lib.stride_tricks.sliding_window_view(np.pad(other, half), 2 * half + 1)
    taps = lstsq(delayed[intact], wave[intact], lapack_driver="gelsy", check_finite=False)[0]
    return np.asarray(delayed @ taps)
