"""A source that is another one with a step of the course laid over it, worked out tile by tile as it is read."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from functools import cached_property
from typing import Protocol

import numpy as np
import numpy.typing as npt

from umbrick.core.course.acting import sound_key, treatment_of
from umbrick.core.course.overview import Overview
from umbrick.core.course.step import WITHIN_HZ, Step
from umbrick.core.course.strength import Nodes, shares_at, strength_text, told_near
from umbrick.core.course.tiles import Tiles
from umbrick.core.course.treatment import Block
from umbrick.core.course.weights import weights
from umbrick.core.course.within_band import kernel, let_through
from umbrick.core.errors import FileError
from umbrick.core.sound.source import Samples, Source, check_span
from umbrick.core.timeline.runs import Integers

Wave = npt.NDArray[np.float64]

TILE = 1 << 16
"""Frames of a tile. Tiles begin at multiples of it."""


class UnmadeError(FileError):
    """What an earlier version of a treatment made is no longer kept, and cannot be made again."""


class Named(Source, Protocol):
    """A source that can name the content of a span."""

    def content_key(self, start: int, stop: int) -> str:
        """Return a name: of equal names the frames are equal."""
        ...


class Rendered:
    """A source through one step. Whatever is read of it, in whatever blocks, is the same.

    Parameters
    ----------
    below : Named
        What the step is laid over: a version, or another source rendered so.
    step : Step
        One that acts.
    spans : ndarray of int, shape (n, 2), optional
        What it is laid over, in frames of ``below``, in order and apart, with ramps at the edges; None for all.
    tiles : Tiles
        Where tiles are kept.
    acting : ndarray of int, shape (n, 2), optional
        Where it acts, if that is not all of these: it spares what it was settled in, without ramps.
    as_made : bool
        Whether to give what the step made when it was laid. If its treatment has another version now, only what is
        still kept can be read: UnmadeError elsewhere.
    """

    def __init__(
        self,
        below: Named,
        step: Step,
        spans: Integers | None,
        tiles: Tiles,
        acting: Integers | None = None,
        as_made: bool = False,
        strength: Nodes = (),
    ) -> None:
        self.below, self.step, self.spans = below, step, spans
        self._acting = spans if acting is None else acting
        self.rate, self.channels, self.frames = below.rate, below.channels, below.frames
        self._tiles = tiles
        self._treatment = treatment_of(step)
        self._own_context = self._treatment.context(step.settings, step.profile, self.rate)
        self._within = kernel(str(step.settings[WITHIN_HZ]), self.rate)
        self._reach = 0 if self._within is None else len(self._within) // 2
        self._context = self._own_context + self._reach
        self._ramp = step.ramp_frames(self.rate)
        self._strength = strength
        self._on = list(step.channels)
        self._is_whole = self._acting is None and len(self._on) == self.channels
        version = step.algorithm if as_made else self._treatment.version
        self._can_make = version == self._treatment.version
        self._step_key = sound_key(step, version)
        self._keys: dict[int, str] = {}
        where = ["all" if held is None else held.tobytes().hex() for held in (spans, self._acting)]
        if strength:
            where.append(strength_text(strength))
        told = f"{below.key}|{self._step_key}|{where}"
        self.key = hashlib.blake2b(told.encode(), digest_size=16).hexdigest()

    @cached_property
    def overview(self) -> Overview:
        """Its peaks, as far as it has been worked out."""
        return Overview(self.frames, self.channels, TILE, self.touched)

    @cached_property
    def touched(self) -> npt.NDArray[np.bool_]:
        """Which tiles this step, or one beneath it, acts in."""
        count = -(-self.frames // TILE)
        marked = self.below.touched.copy() if isinstance(self.below, Rendered) else np.zeros(count, bool)
        marked[self.own_tiles(0, self.frames)] = True
        return marked

    def touched_spans(self) -> list[tuple[int, int]]:
        """Return the spans of the tiles that this step, or one beneath it, acts in."""
        edges = np.flatnonzero(np.diff(self.touched, prepend=False, append=False)).tolist()
        return [(low * TILE, min(self.frames, high * TILE)) for low, high in zip(edges[::2], edges[1::2], strict=True)]

    @property
    def available(self) -> int:
        """Frames from the start that can be read without waiting."""
        ready = self.below.available
        return ready if ready == self.frames else max(0, ready - self._context) // TILE * TILE

    def read(self, start: int, stop: int) -> Samples:
        """Return the frames of a span as float32."""
        check_span(start, stop, self.frames)
        made = np.empty((stop - start, self.channels), np.float32) if self._is_whole else None
        if made is None:
            made = self.below.read(start, stop).copy()
        self._lay(made, start, stop)
        return made

    def read_exact(self, start: int, stop: int) -> Wave:
        """Return the frames of a span as float64; where the step does not act, with every bit that ``below`` has."""
        check_span(start, stop, self.frames)
        made = np.empty((stop - start, self.channels)) if self._is_whole else self.below.read_exact(start, stop)
        self._lay(made, start, stop)
        return made

    def acting(self, start: int, stop: int) -> Iterator[tuple[int, int]]:
        """Yield the parts of a span in which the step acts."""
        if self._acting is None:
            if start < stop:
                yield start, stop
            return
        first = np.searchsorted(self._acting[:, 1], start, side="right")
        last = np.searchsorted(self._acting[:, 0], stop, side="left")
        for begin, end in self._acting[first:last].tolist():
            yield max(begin, start), min(end, stop)

    def content_key(self, start: int, stop: int) -> str:
        """Return a name for the content of a span."""
        digest = hashlib.blake2b(self.below.content_key(start, stop).encode(), digest_size=16)
        for index in self.own_tiles(start, stop):
            digest.update(self._tile_key(index).encode())
        digest.update(f"{start % TILE}:{stop - start}".encode())
        return digest.hexdigest()

    def is_at_hand(self, start: int, stop: int) -> bool:
        """Whether all tiles of a span are in memory."""
        own = all(self._tiles.has(self._tile_key(index)) for index in self.own_tiles(start, stop))
        return own and (self._is_whole or not isinstance(self.below, Rendered) or self.below.is_at_hand(start, stop))

    def own_tiles(self, start: int, stop: int) -> list[int]:
        """Return the tiles of a span in which the step acts."""
        touched: list[int] = []
        for begin, end in self.acting(start, stop):
            touched += range(max(begin // TILE, touched[-1] + 1 if touched else 0), -(-end // TILE))
        return touched

    def _lay(self, made: npt.NDArray[np.float32] | Wave, start: int, stop: int) -> None:
        for begin, end in self.acting(start, stop):
            for index in range(begin // TILE, -(-end // TILE)):
                first = index * TILE
                low, high = max(begin, first), min(end, first + TILE)
                tile = self._tile(index)[low - first : high - first]
                if self._is_whole:
                    made[low - start : high - start] = tile
                else:
                    made[low - start : high - start, self._on] = tile

    def _tile(self, index: int) -> Samples:
        shape = min(TILE, self.frames - index * TILE), len(self._on)
        keeps = not self._treatment.is_quick
        return self._tiles.get(self._tile_key(index), shape, lambda: self._made(index), keeps)

    def _made(self, index: int) -> Samples:
        if not self._can_make:
            raise UnmadeError("What the course made then is no longer kept.")
        first, last = index * TILE, min((index + 1) * TILE, self.frames)
        around, reach = self._own_context, self._reach
        samples = self._with_context(first - reach, last + reach)
        block = Block(samples, first - reach, around, around, self.rate, self.frames)
        treated = self._treatment.process(block, self.step.settings, self.step.profile)
        own = block.own
        if self._within is not None:
            change = let_through(treated - own, self._within)
            own = own[reach : len(own) - reach]
            treated = own + change
        share: Wave | float = self.step.amount
        if self.spans is not None:
            share = share * weights(self.spans, self._ramp, first, last, self.frames)[:, np.newaxis]
        if self._strength:
            share = share * shares_at(self._strength, np.arange(first, last))[:, np.newaxis]
        if isinstance(share, float) and share == 1.0:
            return treated.astype(np.float32)
        return np.asarray(own + share * (treated - own), np.float32)

    def _with_context(self, first: int, last: int) -> Wave:
        """Return a span, which may lie partly outside of the recording, with the treatment's context on both sides.

        Beyond the recording's ends it is turned about its end sample (F. Gustafsson, 1996, discusses the choice), and
        where it is too short for that, its last value goes on.
        """
        around = self._own_context
        low, high = max(0, first - around), min(self.frames, last + around)
        sound = self.below.read_exact(low, high)[:, self._on]
        head, tail = around - (first - low), around - (high - last)
        if not head and not tail:
            return sound
        before, after = _turned(sound, head), _turned(sound[::-1], tail)[::-1]
        return np.concatenate([before, sound, after])

    def _tile_key(self, index: int) -> str:
        """Return the name of a tile: of what it is made from, where, and by what."""
        if (key := self._keys.get(index)) is None:
            first, last = index * TILE, min((index + 1) * TILE, self.frames)
            low, high = max(0, first - self._context), min(self.frames, last + self._context)
            told = [self._step_key, self.below.content_key(low, high), first, last, first - low, high - last]
            if self.spans is not None:
                told += [self._ramp, self.frames, self._spans_near(first, last)]
            if self._strength:
                told += told_near(self._strength, first, last)
            key = self._keys[index] = hashlib.blake2b(repr(told).encode(), digest_size=16).hexdigest()
        return key

    def _spans_near(self, first: int, last: int) -> list[list[int]]:
        assert self.spans is not None
        low = np.searchsorted(self.spans[:, 1], first, side="right")
        high = np.searchsorted(self.spans[:, 0], last, side="left")
        near: list[list[int]] = self.spans[low:high].tolist()
        return near


def _turned(sound: Wave, frames: int) -> Wave:
    """Return what comes before a sound: as many frames of it turned about its first, the last of them held."""
    there = min(frames, len(sound) - 1)
    turned = 2 * sound[0] - sound[there:0:-1]
    if there < frames:
        held = turned[:1] if there > 0 else sound[:1]
        turned = np.concatenate([np.repeat(held, frames - there, axis=0), turned])
    return turned
