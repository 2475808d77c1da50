"""Tiles that were rendered: some in memory, more on the disk, within a limit, and never missed when they are gone."""

from __future__ import annotations

import os
import threading
import zlib
from collections import OrderedDict
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import numpy as np

from umbrick.core.sound.part_file import PartFile, sweep
from umbrick.core.sound.source import Samples

MEMORY_BYTES = 128 << 20
LIMIT_BYTES = 8 << 30
_KEPT_SHARE = 0.9
"""How full the disk is left when the oldest tiles go."""

_FOLDERS = 256


class Tiles:
    """A store of tiles by the name of their content. Any thread may ask.

    Parameters
    ----------
    folder : Path, optional
        Where they are kept on the disk; without, only in memory.
    limit_bytes : int
        The most that is kept there: the oldest go first.
    memory_bytes : int
    on_trouble : callable
        Told in one sentence, once, when the disk takes no more; work goes on without it.
    """

    def __init__(
        self,
        folder: Path | None = None,
        limit_bytes: int = LIMIT_BYTES,
        memory_bytes: int = MEMORY_BYTES,
        on_trouble: Callable[[str], None] = lambda _: None,
    ) -> None:
        self._folder, self._limit, self._memory_limit = folder, limit_bytes, memory_bytes
        self._on_trouble = on_trouble
        self._lock = threading.Lock()
        self._held: OrderedDict[str, Samples] = OrderedDict()
        self._held_bytes = 0
        self._making: dict[str, threading.Event] = {}
        self._disk_bytes: int | None = None
        self._is_full = False
        self.made = 0
        """How many tiles were worked out, not found."""

    def get(self, key: str, shape: tuple[int, int], make: Callable[[], Samples], keeps: bool) -> Samples:
        """Return a tile, made if it is not at hand; two who ask at once have it made once.

        ``keeps`` is whether it is worth a place on the disk.
        """
        while True:
            with self._lock:
                if (held := self._held.get(key)) is not None:
                    self._held.move_to_end(key)
                    return held
                making = self._making.get(key)
                if making is None:
                    self._making[key] = threading.Event()
                    break
            making.wait()
        try:
            tile = self._read(key, shape) if keeps else None
            if tile is None:
                tile = make()
                self.made += 1
                if keeps:
                    self._write(key, tile)
            tile.flags.writeable = False
            with self._lock:
                self._held[key] = tile
                self._held_bytes += tile.nbytes
                while self._held_bytes > self._memory_limit and len(self._held) > 1:
                    self._held_bytes -= self._held.popitem(last=False)[1].nbytes
            return tile
        finally:
            with self._lock:
                self._making.pop(key).set()

    def set_limit(self, limit_bytes: int) -> None:
        """Keep no more than this on the disk from the next tile on."""
        with self._lock:
            self._limit = limit_bytes
            self._disk_bytes = None

    def has(self, key: str) -> bool:
        """Whether a tile is in memory."""
        with self._lock:
            return key in self._held

    def _path(self, key: str) -> Path:
        assert self._folder is not None
        return self._folder / key[:2] / f"{key[2:]}.tile"

    def _read(self, key: str, shape: tuple[int, int]) -> Samples | None:
        """Return a tile from the disk; None if it is not there, or not whole."""
        if self._folder is None:
            return None
        try:
            data = self._path(key).read_bytes()
        except OSError:
            return None
        if len(data) != 4 + 4 * shape[0] * shape[1] or zlib.crc32(data[4:]) != int.from_bytes(data[:4], "little"):
            return None
        return np.frombuffer(data, "<f4", offset=4).reshape(shape).astype(np.float32)

    def _write(self, key: str, tile: Samples) -> None:
        if self._folder is None or self._is_full:
            return
        data = np.ascontiguousarray(tile, "<f4").tobytes()
        path = self._path(key)
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            with PartFile(path.parent) as part:
                part.write(zlib.crc32(data).to_bytes(4, "little"))
                part.write(data)
                part.take_name_lightly(path)
        except OSError as error:
            self._is_full = True
            self._on_trouble(
                f"What the course makes cannot be kept on the disk ({error.strerror or error}). "
                "Work goes on without that; it may only be slower."
            )
            return
        self._count(len(data) + 4)

    def _count(self, added: int) -> None:
        with self._lock:
            if self._disk_bytes is not None:
                self._disk_bytes += added
            if self._disk_bytes is not None and self._disk_bytes <= self._limit:
                return
        self._prune()

    def _prune(self) -> None:
        """Measure what the disk holds, and delete the oldest tiles if that is more than may be."""
        assert self._folder is not None
        files = []
        for number in range(_FOLDERS):
            folder = self._folder / f"{number:02x}"
            sweep(folder)
            with suppress(OSError), os.scandir(folder) as entries:
                for entry in entries:
                    with suppress(OSError):
                        status = entry.stat()
                        files.append((status.st_mtime_ns, status.st_size, entry.path))
        total = sum(size for _, size, _ in files)
        if total > self._limit:
            for _, size, path in sorted(files):
                if total <= _KEPT_SHARE * self._limit:
                    break
                with suppress(OSError):
                    os.unlink(path)
                total -= size
        with self._lock:
            self._disk_bytes = total
