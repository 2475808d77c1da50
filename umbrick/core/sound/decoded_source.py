"""Compressed files, decoded once to a cache that can be read while it grows."""

from __future__ import annotations

import os
import threading
from pathlib import Path

import numpy as np
import numpy.typing as npt

from umbrick.core.errors import CancelledError, FileError
from umbrick.core.sound.decoder import Decoder
from umbrick.core.sound.part_file import PartFile, is_part, sweep
from umbrick.core.sound.sound_file import stamp_of
from umbrick.core.sound.source import Samples, check_span


class DecodedSource:
    """A compressed file's frames, kept as raw floats in a cache file.

    Decoding runs in a thread of its own. What the file promises is taken for its length; where it promises nothing,
    all of it is decoded before this returns, and what came is the length. Frames that turn out to be missing later
    read as silence; ``missing_frames`` counts all that was promised and did not come, once decoding has ended.

    Parameters
    ----------
    decoder : Decoder
        The open file; it is closed when it has been decoded.
    cache_file : Path
        Where the decoded frames are or will be. A complete cache is used as it is; an incomplete one has another
        name until its last frame is written, so it is never mistaken for complete.
    key : str
        Name of the content.

    Raises
    ------
    FileError
        If the cache cannot be written, or not one frame be decoded.
    """

    def __init__(self, decoder: Decoder, cache_file: Path, key: str) -> None:
        self.rate = decoder.rate
        self.channels = decoder.channels
        self.path = decoder.path
        self.key = key
        self.non_finite = 0
        self._promised = decoder.stated
        self._stamp = stamp_of(self.path)
        self._type = "<f8" if decoder.is_double else "<f4"
        self._frame_bytes = (8 if decoder.is_double else 4) * self.channels
        self._grown = threading.Condition()
        self._available = 0
        self._decoded_frames: int | None = None
        self._failure: FileError | None = None
        self._closing = False
        self._thread: threading.Thread | None = None
        if self._complete(cache_file):
            decoder.close()
            os.utime(cache_file)
            self._reader = cache_file.open("rb", buffering=0)
            self.frames = cache_file.stat().st_size // self._frame_bytes
            self._available = self._decoded_frames = self.frames
            return
        try:
            promised = decoder.promised()
            cache_file.parent.mkdir(parents=True, exist_ok=True)
            growing = PartFile(cache_file.parent)
        except FileError:
            decoder.close()
            raise
        except OSError as error:
            decoder.close()
            raise self._no_room(cache_file, error) from error
        self._promised = decoder.stated if promised is None else promised
        self.frames = self._promised or 0
        self._reader = growing.path.open("rb", buffering=0)
        self._thread = threading.Thread(
            target=self._decode, args=(decoder, growing, cache_file), name="decode", daemon=True
        )
        self._thread.start()
        if promised is None:
            self._take_what_comes()

    @property
    def promised_frames(self) -> int:
        """Length as the file says, or as it was found where the file says nothing."""
        return self.frames if self._promised is None else self._promised

    @property
    def available(self) -> int:
        """Frames decoded so far."""
        return self._available

    @property
    def is_cut_off(self) -> bool:
        """Whether the header promised more frames than the file was found to have when it was opened."""
        return self.frames < self.promised_frames

    @property
    def missing_frames(self) -> int:
        """Frames the header promised and the file does not have; 0 until decoding has ended."""
        return 0 if self._decoded_frames is None else self.promised_frames - self._decoded_frames

    def wait(self) -> None:
        """Return when decoding has ended; FileError if it failed."""
        if self._thread:
            self._thread.join()
        if self._failure:
            raise self._failure

    def read(self, start: int, stop: int) -> Samples:
        """Return the frames, waiting until they are decoded."""
        return self._read(start, stop).astype(np.float32, copy=False)

    def read_exact(self, start: int, stop: int) -> npt.NDArray[np.float64]:
        """Return the frames as float64."""
        return self._read(start, stop).astype(np.float64, copy=False)

    def _read(self, start: int, stop: int) -> npt.NDArray[np.floating]:
        check_span(start, stop, self.frames)
        with self._grown:
            self._grown.wait_for(lambda: self._available >= stop or self._failure or self._closing)
            if self._closing:
                raise CancelledError
            if self._available < stop and self._failure:
                raise self._failure
        decoded = self.frames if self._decoded_frames is None else self._decoded_frames
        held = max(0, min(stop, decoded) - start)
        samples = np.frombuffer(self._bytes(start, held), dtype=self._type).reshape(-1, self.channels)
        if held < stop - start:
            return np.concatenate([samples, np.zeros((stop - start - held, self.channels), samples.dtype)])
        return samples

    def is_unchanged(self) -> bool:
        """Whether the compressed file on disk is still the one that was opened."""
        return stamp_of(self.path) == self._stamp

    def close(self) -> None:
        """Stop decoding and let go of the cache; reading raises CancelledError from now on."""
        with self._grown:
            self._closing = True
            self._grown.notify_all()
        if self._thread:
            self._thread.join()
        self._reader.close()

    def _take_what_comes(self) -> None:
        """Wait for the end of decoding, and take what has come for the whole."""
        try:
            self.wait()
            if not self._decoded_frames:
                raise FileError(f"{self.path.name} holds no sound: its header is there, but not a single sample.")
        except FileError:
            self.close()
            raise
        self.frames = self._available = self._decoded_frames

    def _bytes(self, start: int, frames: int) -> bytes:
        wanted, at = frames * self._frame_bytes, start * self._frame_bytes
        parts = bytearray()
        while len(parts) < wanted:
            part = os.pread(self._reader.fileno(), wanted - len(parts), at + len(parts))
            if not part:
                raise FileError(
                    f"The decoded sound of {self.path.name} was cut short by another program.", "Open it again."
                )
            parts += part
        return bytes(parts)

    def _complete(self, cache_file: Path) -> bool:
        # A cache shorter than the file's promise is complete only for a file that really ends early, which is rare
        # enough to be decoded anew each time.
        if not cache_file.exists():
            return False
        return self._promised is None or cache_file.stat().st_size == self._promised * self._frame_bytes

    def _decode(self, decoder: Decoder, growing: PartFile, cache_file: Path) -> None:
        decoded = 0
        try:
            with growing:
                for block in decoder.blocks():
                    growing.write(np.nan_to_num(block, nan=0.0, posinf=0.0, neginf=0.0).astype(self._type).tobytes())
                    decoded += len(block)
                    self._announce(decoded)
                    if self._closing:
                        break
                else:
                    if decoded and (self._promised is None or decoded == self._promised):
                        # A cache that a power cut has emptied would have the right length.
                        os.fdatasync(growing.handle)
                        os.replace(growing.path, cache_file)
                    self._decoded_frames = decoded
                    self._announce(max(decoded, self.frames))
        except FileError as error:
            self._fail(error)
        except OSError as error:
            self._fail(self._no_room(cache_file, error))
        except Exception as error:  # whoever waits for a frame must be told, whatever it was
            self._fail(FileError(f"{self.path.name} cannot be decoded: {error}."))
        finally:
            decoder.close()

    def _no_room(self, cache_file: Path, error: OSError) -> FileError:
        return FileError(
            f"{self.path.name} cannot be decoded to the cache: {error.strerror}.",
            f"Make room in {cache_file.parent}; the file itself is untouched.",
        )

    def _fail(self, failure: FileError) -> None:
        with self._grown:
            self._failure = failure
            self._grown.notify_all()

    def _announce(self, available: int) -> None:
        with self._grown:
            self._available = available
            self._grown.notify_all()


def prune(folder: Path, limit_bytes: int) -> None:
    """Delete the caches not used for longest until the folder holds at most ``limit_bytes``."""
    sweep(folder)
    files = []
    for path in folder.glob("*") if folder.exists() else ():
        try:
            status = path.stat()
        except OSError:
            continue
        if not is_part(path):
            files.append((status.st_mtime, status.st_size, path))
    total = sum(size for _, size, _ in files)
    for _, size, path in sorted(files):
        if total <= limit_bytes:
            return
        path.unlink(missing_ok=True)
        total -= size
