"""What the strips draw of a course: its sound as far as it is worked out, and by how much it changes the level."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QPainter, QPen

from umbrick.core.course.laid import rendered_source, underneath
from umbrick.core.course.overview import OVERVIEW_BUCKET
from umbrick.core.course.rendered import TILE
from umbrick.core.sound.pyramid import Extent
from umbrick.core.timeline.version import Version
from umbrick.core.view.columns import Columns
from umbrick.core.view.window import Window
from umbrick.ui.strips.polyline import polyline
from umbrick.ui.theme import Theme

BAND_HEIGHT = 13
_BAND_DB = 12.0
"""What the band's half height stands for."""

_QUIET_DB = -90.0
_LEAST_CHANGE_DB = 0.05


def known_tiles(version: Version, window: Window | None = None, width: int = 1) -> int:
    """Return how many tiles of what a strip shows are worked out: a number that grows as more can be drawn.

    Where a strip shows single samples, these are worked out when it draws them.
    """
    rendered = rendered_source(version)
    if rendered is None or (window is not None and window.length < OVERVIEW_BUCKET * width):
        return 0
    known = rendered.overview.known
    if window is None:
        return int(known.sum())
    return int(known[max(0, int(window.start) // TILE) : -(-int(window.stop) // TILE)].sum())


def measured_with_beneath(
    columns: Columns, version: Version, start: int, stop: int, count: int
) -> tuple[Extent, npt.NDArray[np.bool_] | None]:
    """Return the columns of a version, and which of them are those beneath its course, as no more is known yet."""
    extent = columns.measure(version, start, stop, count)
    if rendered_source(version) is None:
        return extent, None
    unknown = extent.low[:, 0] > extent.high[:, 0]
    if not unknown.any():
        return extent, unknown
    beneath = columns.measure(underneath(version), start, stop, count)
    rows = unknown[:, np.newaxis]
    return Extent(*(np.where(rows, under, over) for under, over in zip(beneath, extent, strict=True))), unknown


def level_change(through: Extent, beneath: Extent) -> npt.NDArray[np.float64] | None:
    """Return by how many dB a course changes the level of each column; None where it changes none that is seen."""
    power = [np.maximum(extent.mean_square.mean(axis=1, dtype=np.float64), 1e-20) for extent in (through, beneath)]
    levels_db = [10 * np.log10(value) for value in power]
    heard = (np.maximum(*levels_db) > _QUIET_DB) & (through.low[:, 0] <= through.high[:, 0])
    change = np.where(heard, levels_db[0] - levels_db[1], 0.0)
    return change if np.abs(change).max(initial=0.0) >= _LEAST_CHANGE_DB else None


def draw_level_change(painter: QPainter, change_db: npt.NDArray[np.float64], rect: QRectF, theme: Theme) -> None:
    """Draw a thin band above the waveform: a line at 0 dB, and from it up or down what the course does."""
    band = QRectF(rect.x(), rect.top() + 1, rect.width(), BAND_HEIGHT)
    middle = round(band.center().y()) + 0.5
    painter.fillRect(band, theme.color("paper", 200))
    painter.setPen(QPen(theme.color("rule"), 1))
    painter.drawLine(QPointF(band.left(), middle), QPointF(band.right(), middle))
    x = np.linspace(band.left(), band.right(), len(change_db))
    y = middle - np.clip(change_db / _BAND_DB, -1, 1) * BAND_HEIGHT / 2
    painter.setPen(QPen(theme.color("mended"), 1))
    painter.drawPolyline(polyline(x, y))
