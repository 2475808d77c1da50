"""Crossfades: their shapes, and which shape suits two sounds."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

Wave = npt.NDArray[np.float64]

SHAPES = ("linear", "equal_power", "s")
AUTO = "auto"

_ALIKE = 0.5
"""From this correlation on, two sounds add up rather like equal ones than like unrelated ones."""


def rising(frames: int, shape: str) -> Wave:
    """Return the gain of what comes in, shape ``(frames, 1)``; what goes out has the same gain backwards.

    ``linear`` and ``s`` (a raised cosine) add up to 1, which keeps the level of equal sounds; ``equal_power`` (a
    quarter of a sine) keeps that of unrelated ones.
    """
    t = (np.arange(frames) + 0.5) / max(1, frames)
    return shaped(t, shape)[:, np.newaxis]


def shaped(t: Wave, shape: str) -> Wave:
    """Return the gain of a shape at some places of a ramp, from 0 at its start to 1 at its end."""
    if shape == "equal_power":
        return np.asarray(np.sin(np.pi / 2 * t))
    if shape == "s":
        return np.asarray(0.5 - 0.5 * np.cos(np.pi * t))
    if shape == "linear":
        return t
    raise KeyError(shape)


def likeness(outgoing: Wave, incoming: Wave) -> float:
    """Return the correlation of two stretches of sound, from −1 to 1; 0 if either is silent."""
    energy = float(np.sqrt((outgoing**2).sum() * (incoming**2).sum()))
    return float((outgoing * incoming).sum()) / energy if energy > 0 else 0.0


def chosen_shape(outgoing: Wave, incoming: Wave, shape: str = AUTO) -> str:
    """Return the shape that is asked for; ``auto`` chooses ``s`` for sounds that are alike, else ``equal_power``."""
    if shape != AUTO:
        return shape
    return "s" if likeness(outgoing, incoming) >= _ALIKE else "equal_power"


def crossfaded(outgoing: Wave, incoming: Wave, shape: str = AUTO) -> Wave:
    """Return one sound going over into another of the same length, shape ``(frames, channels)``."""
    gain = rising(len(incoming), chosen_shape(outgoing, incoming, shape))
    return np.asarray(outgoing * gain[::-1] + incoming * gain)
