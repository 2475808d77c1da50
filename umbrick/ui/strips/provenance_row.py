"""The provenance row: for every pixel of a strip, where its samples come from."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter

from umbrick.core.timeline.patch import Nature
from umbrick.core.timeline.provenance import NATURES, provenance
from umbrick.core.units import format_clock, format_length
from umbrick.core.view.window import Window
from umbrick.ui.strips.wave_image import columns_of
from umbrick.ui.theme import Theme
from umbrick.work.work import Work

ROW_HEIGHT = 7
_MARKS: dict[Nature, tuple[str, tuple[tuple[float, float], ...], bool]] = {
    Nature.REBUILT: ("mended", ((0.0, 1.0),), False),
    Nature.GRAFTED: ("gaps", ((0.0, 0.3), (0.7, 1.0)), False),
    Nature.RELEVELLED: ("background", ((0.5, 1.0),), False),
    Nature.FILTERED: ("voice", ((0.0, 0.5),), False),
    Nature.MOVED: ("impulses", ((0.0, 1.0),), True),
}
"""The colour of each nature, which parts of the row's height it fills, and whether only every other pixel: the shape
tells them apart where the colour does not."""

_MOST_TOLD = 4
_Drawn = list[tuple[str, tuple[tuple[float, float], ...], list[int]]]


class ProvenanceRow:
    """Draws the row; what it found for a version and a window is kept until they change."""

    def __init__(self) -> None:
        self._held: tuple[Any, _Drawn, list[int]] | None = None

    def draw(self, painter: QPainter, work: Work, window: Window, top: float, width: int, theme: Theme) -> None:
        """Draw the row across a strip."""
        marks, deleted = self._columns(work, window, width)
        painter.fillRect(QRectF(0, top + ROW_HEIGHT // 2, width, 1), theme.color("envelope"))
        for color, parts, columns in marks:
            ink = theme.color(color)
            for low, high in parts:
                y, height = top + round(low * ROW_HEIGHT), max(1, round((high - low) * ROW_HEIGHT))
                for x in columns:
                    painter.fillRect(QRectF(x, y, 1, height), ink)
        for x in deleted:
            painter.fillRect(QRectF(x, top - 2, 1, ROW_HEIGHT + 4), theme.color("wrong"))

    def text_at(self, work: Work, frame: float, frames_per_pixel: float) -> str:
        """Return what the row shows under the pointer, in words."""
        reach = max(1.0, frames_per_pixel)
        start = int(min(max(0, frame - reach), work.frames))
        stop = int(min(work.frames, frame + reach + 1))
        found = provenance(work.version, work.history.original, start, stop)
        parts = []
        for number, code in enumerate(found.natures.tolist()):
            nature = NATURES[code]
            if nature is Nature.ORIGINAL:
                continue
            first, last = int(found.bounds[number]), int(found.bounds[number + 1])
            text = f"{nature.value}, {format_length(last - first, work.rate)} at {format_clock(first, work.rate)}"
            donor = int(found.donors[number])
            parts.append(f"{text}, from {format_clock(donor, work.rate)}" if donor >= 0 else text)
        parts += [f"taken out before {format_clock(at, work.rate)}" for at in found.deleted.tolist()]
        if len(parts) > _MOST_TOLD:
            parts = [*parts[:_MOST_TOLD], f"and {len(parts) - _MOST_TOLD} more"]
        return "\n".join(parts) or "original"

    def _columns(self, work: Work, window: Window, width: int) -> tuple[_Drawn, list[int]]:
        key = (work.version, window, width)
        if self._held is None or self._held[0] != key:
            start, stop = max(0, int(window.start)), min(work.frames, round(window.stop))
            found = provenance(work.version, work.history.original, min(start, stop), stop)
            marks: _Drawn = []
            for nature, (color, parts, is_dashed) in _MARKS.items():
                columns = np.flatnonzero(columns_of(found.spans(nature), window.start, window.stop, width))
                if is_dashed:
                    columns = columns[columns % 3 > 0]
                if len(columns):
                    marks.append((color, parts, columns.tolist()))
            cuts = np.stack([found.deleted, found.deleted + 1], axis=1)
            deleted = np.flatnonzero(columns_of(cuts, window.start, window.stop, width)).tolist()
            self._held = key, marks, deleted
        return self._held[1], self._held[2]
