"""Compressed files, decoded once to a cache that can be read while it grows."""

from __future__ import annotations

import os
import threading
from pathlib import Path

import numpy as np
import numpy.typing as npt
import soundfile

from umbrick.core.errors import CancelledError, FileError
from umbrick.core.sound.source import Samples, check_span

_BLOCK_FRAMES = 65536


class DecodedSource:
    """A compressed file's frames, kept as raw float32 in a cache file.

    Decoding runs in a thread of its own. Frames that the file's header promises but that cannot be decoded read as
    silence; ``missing_frames`` counts them once decoding has ended.

    Parameters
    ----------
    path : Path
        The compressed file.
    cache_file : Path
        Where the decoded frames are or will be. A complete cache is used as it is; an incomplete one has another
        name until its last frame is written, so it is never mistaken for complete.
    key : str
        Name of the content.
    """

    def __init__(self, path: Path, cache_file: Path, key: str) -> None:
        with soundfile.SoundFile(path) as file:
            self.rate: int = file.samplerate
            self.channels: int = file.channels
            self.frames: int = file.frames
        self.path = path
        self.key = key
        self.non_finite = 0
        self._frame_bytes = 4 * self.channels
        self._grown = threading.Condition()
        self._available = 0
        self._decoded_frames: int | None = None
        self._failure: FileError | None = None
        self._closing = False
        self._thread: threading.Thread | None = None
        if self._complete(cache_file):
            os.utime(cache_file)
            self._reader = cache_file.open("rb", buffering=0)
            self._decoded_frames = cache_file.stat().st_size // self._frame_bytes
            self._available = self.frames
            return
        growing = cache_file.with_name(f"{cache_file.name}.{os.getpid()}-{id(self):x}.part")
        try:
            cache_file.parent.mkdir(parents=True, exist_ok=True)
            self._writer = growing.open("wb", buffering=0)
        except OSError as error:
            raise FileError(
                f"{path.name} cannot be decoded: {error.strerror}.", f"The cache is {cache_file.parent}."
            ) from error
        self._reader = growing.open("rb", buffering=0)
        self._thread = threading.Thread(target=self._decode, args=(growing, cache_file), name="decode", daemon=True)
        self._thread.start()

    @property
    def available(self) -> int:
        """Frames decoded so far."""
        return self._available

    @property
    def missing_frames(self) -> int:
        """Frames the header promised and the file does not have; 0 until decoding has ended."""
        return 0 if self._decoded_frames is None else self.frames - min(self.frames, self._decoded_frames)

    def wait(self) -> None:
        """Return when decoding has ended; FileError if it failed."""
        if self._thread:
            self._thread.join()
        if self._failure:
            raise self._failure

    def read(self, start: int, stop: int) -> Samples:
        """Return the frames, waiting until they are decoded."""
        check_span(start, stop, self.frames)
        with self._grown:
            self._grown.wait_for(lambda: self._available >= stop or self._failure or self._closing)
            if self._closing:
                raise CancelledError
            if self._available < stop and self._failure:
                raise self._failure
        data = os.pread(self._reader.fileno(), (stop - start) * self._frame_bytes, start * self._frame_bytes)
        samples = np.frombuffer(data, dtype="<f4").reshape(-1, self.channels)
        if len(samples) < stop - start:
            padded = np.zeros((stop - start, self.channels), np.float32)
            padded[: len(samples)] = samples
            return padded
        return samples

    def read_exact(self, start: int, stop: int) -> npt.NDArray[np.float64]:
        """Return the frames as float64."""
        return self.read(start, stop).astype(np.float64)

    def is_unchanged(self) -> bool:
        """True: the decoded frames are Umbrick's own."""
        return True

    def close(self) -> None:
        """Stop decoding and let go of the cache; reading raises CancelledError from now on."""
        with self._grown:
            self._closing = True
            self._grown.notify_all()
        if self._thread:
            self._thread.join()
        self._reader.close()

    def _complete(self, cache_file: Path) -> bool:
        # A cache shorter than the header's promise is complete only for a file that really ends early, which is
        # rare enough to be decoded anew each time.
        return cache_file.exists() and cache_file.stat().st_size == self.frames * self._frame_bytes

    def _decode(self, growing: Path, cache_file: Path) -> None:
        decoded = 0
        try:
            with self._writer, soundfile.SoundFile(self.path) as file:
                while decoded < self.frames and not self._closing:
                    try:
                        block = file.read(min(_BLOCK_FRAMES, self.frames - decoded), dtype="float32", always_2d=True)
                    except (soundfile.LibsndfileError, RuntimeError):
                        break  # damaged from here on: what was decoded stays, the rest is reported as missing
                    if not len(block):
                        break
                    self._writer.write(np.nan_to_num(block, nan=0.0, posinf=0.0, neginf=0.0).astype("<f4").tobytes())
                    decoded += len(block)
                    self._announce(decoded)
            if decoded == self.frames:
                os.replace(growing, cache_file)
            else:
                growing.unlink()
            if not self._closing:
                self._decoded_frames = decoded
                self._announce(self.frames)
        except OSError as error:
            growing.unlink(missing_ok=True)
            with self._grown:
                self._failure = FileError(
                    f"{self.path.name} cannot be decoded to the cache: {error.strerror}.",
                    f"Make room in {cache_file.parent}; the file itself is untouched.",
                )
                self._grown.notify_all()

    def _announce(self, available: int) -> None:
        with self._grown:
            self._available = available
            self._grown.notify_all()


def prune(folder: Path, limit_bytes: int) -> None:
    """Delete the caches not used for longest until the folder holds at most ``limit_bytes``."""
    files = []
    for path in folder.glob("*") if folder.exists() else ():
        try:
            status = path.stat()
        except OSError:
            continue
        files.append((status.st_mtime, status.st_size, path))
    total = sum(size for _, size, _ in files)
    for _, size, path in sorted(files):
        if total <= limit_bytes:
            return
        path.unlink(missing_ok=True)
        total -= size
