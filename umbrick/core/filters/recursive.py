"""Recursive filters in second-order sections: rows of ``b0, b1, b2, 1, a1, a2``."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from scipy.linalg.lapack import dtbtrs

Wave = npt.NDArray[np.float64]
Sections = npt.NDArray[np.float64]

_WORTH_LOADING, _WORTH_LOADING_FOR_MORE = 1 << 19, 1 << 23
"""Samples at once, and samples so far, from which SciPy's own filter, eight times as fast, is worth the second that
loading it takes."""


def high_pass(hz: float, rate: float) -> Sections:
    """Return a second-order Butterworth high-pass (S. Butterworth, 1930) by the bilinear transform."""
    warped = np.tan(np.pi * hz / rate)
    return _section(np.array([1.0, -2.0, 1.0]), warped, np.sqrt(0.5))


def band_pass(low_hz: float, high_hz: float, rate: float) -> Sections:
    """Return a Butterworth band-pass of two poles on either side, by the bilinear transform."""
    low, high = (np.tan(np.pi * hz / rate) for hz in (low_hz, high_hz))
    # The low-pass prototype's pole is taken to the band's two, and their conjugates.
    pole = np.exp(0.75j * np.pi) * (high - low) / 2
    split = np.sqrt(pole**2 - low * high + 0j)
    poles = [(1 + p) / (1 - p) for p in (pole + split, pole - split)]
    sections = np.array(
        [[1.0, sign * 2.0, 1.0, 1.0, -2 * p.real, abs(p) ** 2] for sign, p in zip((1, -1), poles, strict=True)]
    )
    middle = np.exp(2j * np.arctan(np.sqrt(low * high)))
    sections[0, :3] /= abs(np.prod([np.polyval(s[:3], middle) / np.polyval(s[3:], middle) for s in sections]))
    return sections


def magnitude(sections: Sections, angles: Wave) -> Wave:
    """Return the magnitude of sections, one after another, at angles of the unit circle: π is half the rate."""
    z = np.exp(-1j * angles)
    made = np.ones(len(angles))
    for section in sections:
        made *= np.abs(np.polyval(section[2::-1], z) / np.polyval(section[:2:-1], z))
    return made


def filtered(
    sections: Sections, wave: npt.ArrayLike, state: Wave | None = None, frames_before: int = 0
) -> tuple[Wave, Wave]:
    """Return what sections, one after another, make of some waves.

    Parameters
    ----------
    sections : ndarray, shape (n, 6)
    wave : array_like, shape (waves, frames)
        Not changed.
    state : ndarray, shape (n, waves, 2), optional
        What the filter was left in by the frames before; rest by default.
    frames_before : int
        How many those were.

    Returns
    -------
    ndarray, ndarray
        The waves, and the state they leave.

    Notes
    -----
    A recursive filter is the solution of a banded triangular system of equations, for which LAPACK has a routine.
    The state is that of the transposed direct form II.
    """
    made = np.array(wave, np.float64, ndmin=2)
    state = np.zeros((len(sections), len(made), 2)) if state is None else state
    if made.size > _WORTH_LOADING or len(made) * frames_before > _WORTH_LOADING_FOR_MORE:
        from scipy.signal import sosfilt

        return sosfilt(sections, made, axis=1, zi=state)
    frames = made.shape[1]
    after = state.copy()
    if not frames:
        return made, after
    band = np.empty((3, frames), order="F")
    for number, (b0, b1, b2, _, a1, a2) in enumerate(sections):
        driven = b0 * made
        driven[:, 1:] += b1 * made[:, :-1]
        driven[:, 2:] += b2 * made[:, :-2]
        driven[:, :2] += state[number, :, :frames]
        band[0], band[1], band[2] = 1.0, a1, a2
        solved = dtbtrs(band, driven.T, uplo="L", overwrite_b=True)[0].T
        last, one_before = made[:, -1], made[:, -2] if frames > 1 else 0.0
        second = b2 * last - a2 * solved[:, -1]
        first = b1 * last - a1 * solved[:, -1]
        first += b2 * one_before - a2 * solved[:, -2] if frames > 1 else state[number, :, 1]
        after[number] = np.stack([first, second], axis=1)
        made = solved
    return made, after


def filtered_both_ways(sections: Sections, wave: npt.ArrayLike, padding: int) -> Wave:
    """Return one wave filtered forward and then backward, so that nothing is delayed.

    Both ends are extended by so many frames of the wave turned about its end (F. Gustafsson, 1996, discusses the
    choice), as far as there are as many.
    """
    own = np.asarray(wave, np.float64)
    edge = min(padding, len(own) - 1)
    if edge < 1:
        return own.copy()
    extended = np.concatenate([2 * own[0] - own[edge:0:-1], own, 2 * own[-1] - own[-2 : -edge - 2 : -1]])
    for _ in range(2):
        started = _resting_state(sections) * extended[0]
        extended = filtered(sections, extended[np.newaxis], started[:, np.newaxis, :])[0][0, ::-1]
    return extended[edge : len(extended) - edge]


def _resting_state(sections: Sections) -> Wave:
    """Return the state of sections that have been fed ones for ever: shape ``(n, 2)``."""
    states, level = [], 1.0
    for b0, b1, b2, _, a1, a2 in sections:
        steady = (b0 + b1 + b2) / (1 + a1 + a2)
        second = b2 - a2 * steady
        states.append(np.array([b1 - a1 * steady + second, second]) * level)
        level *= steady
    return np.array(states)


def _section(zeros: Wave, warped: float, q: float) -> Sections:
    norm = 1 + warped / q + warped**2
    a1, a2 = 2 * (warped**2 - 1) / norm, (1 - warped / q + warped**2) / norm
    return np.array([[*(zeros / norm), 1.0, a1, a2]])
