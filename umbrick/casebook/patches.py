"""Patches in the casebook: samples in chunks, read when they are needed."""

from __future__ import annotations

import sqlite3
import threading
from collections import OrderedDict
from pathlib import Path

import numpy as np
import numpy.typing as npt

from umbrick.casebook.errors import DamagedCasebookError, explained
from umbrick.core.course.frozen import FrozenSource
from umbrick.core.errors import CancelledError
from umbrick.core.sound.source import Samples, Source, check_span
from umbrick.core.timeline.patch import Nature

_CHUNK_FRAMES = 1 << 15
_AT_HAND_BYTES = 48 * 2**20


class Reader:
    """Reads chunks through a connection of its own, so that playing never waits for an edit being written."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._lock = threading.Lock()
        self._connection: sqlite3.Connection | None = None
        self._chunks: OrderedDict[tuple[int, int], npt.NDArray[np.floating]] = OrderedDict()
        self._bytes = 0
        self._closed = False

    def chunk(self, patch: int, number: int, frames: int, channels: int, dtype: str) -> npt.NDArray[np.floating]:
        """Return one chunk; it must have so many frames."""
        key = patch, number
        with self._lock:
            if (held := self._chunks.get(key)) is not None:
                self._chunks.move_to_end(key)
                return held
            if self._closed:
                raise CancelledError  # whoever still reads is no longer wanted
            if self._connection is None:
                self._connection = sqlite3.connect(
                    f"{self._path.absolute().as_uri()}?mode=ro", uri=True, check_same_thread=False
                )
            try:
                row = self._connection.execute(
                    "SELECT samples FROM patch_chunks WHERE patch = ? AND number = ?", key
                ).fetchone()
            except sqlite3.Error as error:
                raise explained(error, self._path) from error
            if row is None or len(row[0]) != frames * channels * np.dtype(dtype).itemsize:
                raise DamagedCasebookError(f"The samples of a mend are missing from {self._path.name}.")
            samples = np.frombuffer(row[0], dtype).reshape(frames, channels)
            self._chunks[key] = samples
            self._bytes += samples.nbytes
            while self._bytes > _AT_HAND_BYTES and len(self._chunks) > 1:
                _, dropped = self._chunks.popitem(last=False)
                self._bytes -= dropped.nbytes
            return samples

    def forget(self, patch: int) -> None:
        """Drop what is held of a patch whose number is given anew."""
        with self._lock:
            for key in [key for key in self._chunks if key[0] == patch]:
                self._bytes -= self._chunks.pop(key).nbytes

    def close(self) -> None:
        """Let go of the file; reading raises CancelledError from now on."""
        with self._lock:
            self._closed = True
            self._chunks.clear()
            if self._connection is not None:
                self._connection.close()


class StoredPatch:
    """A patch whose samples are in a casebook."""

    def __init__(
        self,
        reader: Reader,
        number: int,
        key: str,
        rate: int,
        channels: int,
        frames: int,
        is_double: bool,
        nature: Nature,
        donor: int | None,
    ) -> None:
        self._reader = reader
        self._dtype = "<f8" if is_double else "<f4"
        self.number = number
        self.key = key
        self.rate = rate
        self.channels = channels
        self.frames = frames
        self.nature = nature
        self.donor = donor

    @property
    def available(self) -> int:
        """All frames."""
        return self.frames

    def read(self, start: int, stop: int) -> Samples:
        """Return the frames as float32."""
        return self._read(start, stop).astype(np.float32, copy=False)

    def read_exact(self, start: int, stop: int) -> npt.NDArray[np.float64]:
        """Return the frames as float64."""
        return self._read(start, stop).astype(np.float64)

    def is_intact(self) -> bool:
        """Whether every sample can be read and is a number."""
        try:
            return all(
                bool(np.isfinite(self.read_exact(start, min(start + _CHUNK_FRAMES, self.frames))).all())
                for start in range(0, self.frames, _CHUNK_FRAMES)
            )
        except DamagedCasebookError:
            return False

    def _read(self, start: int, stop: int) -> npt.NDArray[np.floating]:
        check_span(start, stop, self.frames)
        parts = []
        for number in range(start // _CHUNK_FRAMES, -(-stop // _CHUNK_FRAMES)):
            first = number * _CHUNK_FRAMES
            frames = min(_CHUNK_FRAMES, self.frames - first)
            chunk = self._reader.chunk(self.number, number, frames, self.channels, self._dtype)
            parts.append(chunk[max(0, start - first) : stop - first])
        if len(parts) == 1:
            return parts[0]
        return np.concatenate(parts) if parts else np.zeros((0, self.channels), np.float32)


class StoredFile(FrozenSource):
    """Settled sound, in a file beside a casebook; ``number`` is that of its patch."""

    def __init__(self, number: int, path: Path, rate: int, channels: int, frames: int) -> None:
        super().__init__(path, rate, channels, frames)
        self.number = number


Stored = (StoredPatch, StoredFile)


def needs_double(source: Source) -> bool:
    """Return whether float32 would lose bits of a source."""
    return any(
        not np.array_equal(source.read(start, stop), source.read_exact(start, stop))
        for start, stop in _chunk_spans(source)
    )


def write_chunks(connection: sqlite3.Connection, number: int, source: Source, is_double: bool) -> None:
    """Write a source's samples as the chunks of a patch."""
    for chunk, (start, stop) in enumerate(_chunk_spans(source)):
        samples = source.read_exact(start, stop).astype("<f8") if is_double else source.read(start, stop).astype("<f4")
        connection.execute("INSERT INTO patch_chunks VALUES (?, ?, ?)", (number, chunk, samples.tobytes()))


def _chunk_spans(source: Source) -> list[tuple[int, int]]:
    return [(start, min(start + _CHUNK_FRAMES, source.frames)) for start in range(0, source.frames, _CHUNK_FRAMES)]
