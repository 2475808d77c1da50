"""Draws extents as an image, without Qt's painter: a few comparisons of whole arrays."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from PySide6.QtGui import QColor, QImage

from umbrick.core.sound.pyramid import Extent
from umbrick.ui.theme import Theme

Pixels = npt.NDArray[np.uint32]


class Ink(NamedTuple):
    """The colours of a waveform, as 32-bit values."""

    paper: int
    envelope: int
    body: int
    mended: int
    mended_body: int
    wrong: int
    pending: int
    """For what is not worked out yet."""

    @classmethod
    def of(cls, theme: Theme) -> Ink:
        """Return the colours of a theme."""
        names = ("paper", "envelope", "body", "mended", "mended", "wrong", "envelope")
        ink = cls(*(theme.color(name).rgb() for name in names))
        paler = (
            QColor.fromRgb(ink.mended).lighter(150)
            if theme.name == "daylight"
            else QColor.fromRgb(ink.mended).darker(140)
        )
        faded = [round(0.4 * a + 0.6 * b) for a, b in zip(_parts(ink.envelope), _parts(ink.paper), strict=True)]
        return ink._replace(mended=paler.rgb(), pending=QColor(*faded).rgb())


def _parts(rgb: int) -> tuple[int, int, int]:
    color = QColor.fromRgb(rgb)
    return color.red(), color.green(), color.blue()


class WavePicture(NamedTuple):
    """A finished waveform, and the extents it was drawn from."""

    image: QImage
    extent: Extent
    change_db: npt.NDArray[np.float64] | None = None
    """By how much the course changes the level in each column."""


def peak_at(extent: Extent, share: float, channel: int = 0) -> float | None:
    """Return the highest absolute sample in the column at a share of the width, or None if it is not known."""
    column = min(max(0, int(share * len(extent.low))), len(extent.low) - 1)
    low, high = float(extent.low[column, channel]), float(extent.high[column, channel])
    return max(abs(low), abs(high)) if low <= high else None


def wave_pixels(
    extent: Extent,
    rebuilt: npt.NDArray[np.bool_],
    lane_height: int,
    top: float,
    ink: Ink,
    faint: npt.NDArray[np.bool_] | None = None,
) -> Pixels:
    """Return the waveforms of all channels, one lane under another.

    Parameters
    ----------
    extent : Extent
        One column a pixel.
    rebuilt : ndarray of bool, shape (columns,)
        Columns that hold rebuilt samples.
    lane_height : int
        Pixels for a channel.
    top : float
        Amplitude at a lane's upper edge; what passes 1.0 is drawn in the colour for faults, except
        where it was rebuilt.
    ink : Ink
    faint : ndarray of bool, shape (columns,), optional
        Columns that stand for something not worked out yet: drawn faintly and without a body.
    """
    columns, channels = extent.low.shape
    pixels = np.full((channels * lane_height, columns), ink.paper, np.uint32)
    rows = np.arange(lane_height, dtype=np.float32)[:, np.newaxis] + np.float32(0.5)
    middle = np.float32(lane_height / 2)
    scale = np.float32(lane_height / 2 / top)
    full = scale * np.float32(1.0)
    for channel in range(channels):
        low, high = extent.low[:, channel], extent.high[:, channel]
        known = low <= high
        upper = middle - np.where(known, high, 0) * scale
        lower = middle - np.where(known, low, 0) * scale
        thin = lower - upper < 1
        centre = (upper + lower) / 2
        upper, lower = np.where(thin, centre - 0.5, upper), np.where(thin, centre + 0.5, lower)
        lane = pixels[channel * lane_height : (channel + 1) * lane_height]
        inside = (rows >= upper) & (rows <= lower) & known
        # A column thinner than a pixel may fall between two rows' centres: its nearest row is drawn all the same.
        nearest = np.clip(centre.astype(np.int64), 0, lane_height - 1)
        inside[nearest[known], np.flatnonzero(known)] = True
        body = np.sqrt(extent.mean_square[:, channel]) * scale
        within = inside & (
            np.abs(rows - middle) <= np.minimum(body, np.maximum(np.abs(middle - upper), np.abs(lower - middle)))
        )
        lane[inside] = ink.envelope
        if faint is not None:
            lane[inside & faint] = ink.pending
            within &= ~faint
        lane[within] = ink.body
        beyond = inside & (np.abs(rows - middle) > full) & ~rebuilt
        lane[beyond] = ink.wrong
        lane[inside & rebuilt] = ink.mended
        lane[within & rebuilt] = ink.mended_body
    return pixels


def to_image(pixels: Pixels, ratio: float = 1.0) -> QImage:
    """Return pixels as an image that owns its memory."""
    height, width = pixels.shape
    data = np.ascontiguousarray(pixels)
    image = QImage(data.data, width, height, 4 * width, QImage.Format.Format_RGB32).copy()
    image.setDevicePixelRatio(ratio)
    return image


def columns_of(spans: npt.ArrayLike, start: float, stop: float, count: int) -> npt.NDArray[np.bool_]:
    """Return which of ``count`` columns across ``start`` to ``stop`` the spans, of shape ``(n, 2)``, touch."""
    marked = np.zeros(count + 1, np.int32)
    edges = (np.asarray(spans, np.float64).reshape(-1, 2) - start) * count / (stop - start)
    if len(edges):
        first = np.clip(np.floor(edges[:, 0]), 0, count).astype(np.int64)
        last = np.clip(np.maximum(np.ceil(edges[:, 1]), first + 1), 0, count).astype(np.int64)
        shown = (edges[:, 1] > 0) & (edges[:, 0] < count)
        np.add.at(marked, first[shown], 1)
        np.add.at(marked, last[shown], -1)
    return np.cumsum(marked[:-1]) > 0
