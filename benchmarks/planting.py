"""Planting clipping in clean sound, with the truth kept."""

from __future__ import annotations

import numpy as np


def clip_to_sdr(clean, sdr_db):
    """Return ``clean`` cut off symmetrically at the level that leaves this signal-to-distortion ratio; the level."""
    low, high = 0.0, float(np.abs(clean).max())
    power = float(np.sum(np.square(clean, dtype=np.float64)))
    for _ in range(60):
        rail = (low + high) / 2
        error = float(np.sum(np.square(clean - np.clip(clean, -rail, rail), dtype=np.float64)))
        if error == 0 or 10 * np.log10(power / error) > sdr_db:
            high = rail
        else:
            low = rail
    return np.clip(clean, -rail, rail), rail


def clip_at(clean, rail_dbfs, share, sides="both", channels=None):
    """Return sound driven so that ``share`` of its samples pass the rail, cut off there, and the mask of those cut.

    ``sides`` is ``both``, ``upper`` or ``lower``; ``channels`` lists those that are clipped (all if None).
    """
    rail = 10 ** (rail_dbfs / 20)
    gain = rail / max(float(np.quantile(np.abs(clean), 1 - share)), 1e-6)
    driven = clean * gain
    clipped = np.clip(driven, -rail if sides != "upper" else -np.inf, rail if sides != "lower" else np.inf)
    if channels is not None:
        for channel in range(clean.shape[1]):
            if channel not in channels:
                clipped[:, channel] = driven[:, channel] * (0.9 / max(0.9, np.abs(driven[:, channel]).max()))
                driven[:, channel] = clipped[:, channel]
    return clipped, clipped != driven
