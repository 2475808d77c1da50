"""The spectrogram in a strip: tiles of levels, worked out beside the window, coarse first, and kept."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import NamedTuple

import numpy as np
from PySide6.QtCore import QObject, QRectF, QTimer, Signal
from PySide6.QtGui import QImage, QPainter
from PySide6.QtWidgets import QWidget

from umbrick.core.errors import CancelledError
from umbrick.core.timeline.version import Version
from umbrick.core.view.spectrogram import Levels, Look, Sharpening, level_columns, levels_in_db
from umbrick.core.view.window import Window
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.spectral_view import Wash
from umbrick.ui.strips.renderer import Renderer
from umbrick.ui.strips.spectrogram_ink import spectrogram_pixels
from umbrick.ui.strips.wave_image import to_image
from umbrick.ui.theme import Theme

_TILE_COLUMNS = 128
_MOST_BYTES = 64 << 20
_COARSE = 8
_HARDLY_MOVED = 1.6
_WIDE_SECONDS = 40


class LevelTiles:
    """Levels of columns that were worked out, the latest used of them kept within a bound."""

    def __init__(self, most_bytes: int = _MOST_BYTES) -> None:
        self._most = most_bytes
        self._tiles: OrderedDict[tuple[object, ...], Levels] = OrderedDict()
        self.held_bytes = 0

    def get(self, key: tuple[object, ...]) -> Levels | None:
        """Return a tile, if it is kept."""
        tile = self._tiles.get(key)
        if tile is not None:
            self._tiles.move_to_end(key)
        return tile

    def put(self, key: tuple[object, ...], tile: Levels) -> None:
        """Keep a tile; what was used least lately goes."""
        self._tiles[key] = tile
        self.held_bytes += tile.nbytes
        while self.held_bytes > self._most:
            _, gone = self._tiles.popitem(last=False)
            self.held_bytes -= gone.nbytes


class SpectrogramPicture(NamedTuple):
    """A finished spectrogram: an image and the levels of each channel, highest frequency first; its own window."""

    image: QImage
    levels: tuple[Levels, ...]
    window: Window


@dataclass(frozen=True)
class SpectrogramRequest:
    """What a spectrogram's picture depends on; ``width`` is in pixels of the screen, ``look`` tells the height of one
    channel."""

    version: Version
    channels: tuple[int, ...]
    window: Window
    width: int
    ratio: float
    look: Look
    ink: tuple[Theme, Wash, float, float]
    is_coarse: bool
    tiles: LevelTiles = field(compare=False)

    def make(self, is_overtaken: Callable[[], bool]) -> SpectrogramPicture:
        """Return the picture."""
        width = max(1, self.width // _COARSE) if self.is_coarse else self.width
        # Windows that were scrolled differ in their last digits: the same tiles are meant.
        step = float(f"{self.window.length / width:.10g}")
        first = int(np.floor(self.window.start / step + 1e-6))
        count = width + 1
        levels = tuple(self._levels(channel, step, first, count, is_overtaken) for channel in self.channels)
        pixels = spectrogram_pixels(np.concatenate(levels), *self.ink)
        shown = Window(first * step, (first + count) * step)
        return SpectrogramPicture(to_image(pixels, self.ratio), levels, shown)

    def _levels(self, channel: int, step: float, first: int, count: int, is_overtaken: Callable[[], bool]) -> Levels:
        made = []
        for tile in range(first // _TILE_COLUMNS, (first + count - 1) // _TILE_COLUMNS + 1):
            key = self.version.key, channel, step, tile, self.look
            levels = self.tiles.get(key)
            if levels is None:
                if is_overtaken():
                    raise CancelledError
                start = tile * _TILE_COLUMNS * step
                levels = level_columns(self.version, channel, start, step, _TILE_COLUMNS, self.look, is_overtaken)
                self.tiles.put(key, levels)
            made.append(levels)
        begin = first - first // _TILE_COLUMNS * _TILE_COLUMNS
        return np.concatenate(made, axis=1)[:, begin : begin + count]


def _quick(request: SpectrogramRequest) -> SpectrogramRequest:
    """Return a request for something like it that is made at once: few columns of much, or all of one length."""
    is_wide = request.window.length > _WIDE_SECONDS * request.version.rate
    return replace(request, look=replace(request.look, sharpening=Sharpening.NONE), is_coarse=is_wide)


class SpectrogramLayer(QObject):
    """Asks for spectrograms and draws the latest, moved to where it belongs until the next one is ready."""

    ready = Signal()

    def __init__(self, strip: QWidget, bench: Bench) -> None:
        super().__init__(strip)
        self.tiles = LevelTiles()
        self._renderer = Renderer(self)
        self._renderer.ready.connect(self._take)
        self._renderer.failed.connect(bench.failed)
        self._renderer.fault.connect(bench.jobs.fault)
        self.ready.connect(strip.update)
        self._wanted: SpectrogramRequest | None = None
        self.made_for: SpectrogramRequest | None = None
        self.picture: SpectrogramPicture | None = None
        self._ask = QTimer(self, singleShot=True)
        self._ask.timeout.connect(self._request)

    def want(
        self,
        version: Version,
        channels: tuple[int, ...],
        window: Window,
        size: tuple[int, float],
        look: Look,
        ink: tuple[Theme, Wash, float, float],
    ) -> None:
        """Have the spectrogram made that belongs here now: ``size`` is its width in pixels of the screen, and how many
        of them are one of the window's."""
        width, ratio = size
        self._wanted = SpectrogramRequest(version, channels, window, width, ratio, look, ink, False, self.tiles)
        if self.made_for != self._wanted:
            # After all strips have painted: a picture in the making would only slow them down.
            self._ask.start(0)

    @property
    def is_idle(self) -> bool:
        """Whether the picture is the one that belongs here."""
        return self._renderer.is_idle and (self._wanted is None or self.made_for == self._wanted)

    def close(self) -> None:
        """Stop drawing for good."""
        self._renderer.close()

    def forget(self) -> None:
        """Another recording is shown now, or no spectrogram."""
        self._wanted = self.made_for = self.picture = None

    def level_db_at(self, channel_index: int, frame: float, share: float) -> float | None:
        """Return the level drawn at a frame of the shown version and a share of the height, from below."""
        if self.picture is None or channel_index >= len(self.picture.levels):
            return None
        levels, window = self.picture.levels[channel_index], self.picture.window
        column = int(window.x_of(frame, levels.shape[1]))
        row = int((1 - share) * len(levels))
        if not (0 <= column < levels.shape[1] and 0 <= row < len(levels)):
            return None
        return float(levels_in_db(levels[row, column]))

    def fitting_range_db(self) -> tuple[float, float] | None:
        """Return from which to which level what is in view goes."""
        if self.picture is None:
            return None
        levels_db = levels_in_db(np.concatenate(self.picture.levels))
        return float(np.percentile(levels_db, 25)), float(levels_db.max())

    def draw(self, painter: QPainter, window: Window, rect: QRectF) -> None:
        """Draw what there is where it belongs in the window shown."""
        if self.picture is None or self.made_for is None:
            return
        left = window.x_of(self.picture.window.start, rect.width())
        right = window.x_of(self.picture.window.stop, rect.width())
        painter.save()
        painter.setClipRect(rect)
        painter.drawImage(QRectF(rect.x() + left, rect.y(), right - left, rect.height()), self.picture.image)
        painter.restore()

    def _request(self) -> None:
        """Have the picture made; first a quick one, unless what is shown is nearly what belongs here."""
        if self._wanted is not None:
            self._renderer.request(self._wanted if self._is_near(self._wanted) else _quick(self._wanted))

    def _is_near(self, wanted: SpectrogramRequest) -> bool:
        if self.picture is None:
            return False
        shown, window = self.picture.window, wanted.window
        factor = shown.length / window.length
        is_alike = 1 / _HARDLY_MOVED < factor < _HARDLY_MOVED
        return is_alike and shown.start < window.stop and window.start < shown.stop

    def _take(self, request: SpectrogramRequest, picture: SpectrogramPicture) -> None:
        if self._wanted is None:
            return
        self.picture, self.made_for = picture, request
        if request != self._wanted:
            self._request()
        self.ready.emit()
