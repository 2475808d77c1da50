"""What decodes a compressed file from its beginning to its end, once."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Protocol

import numpy as np
import numpy.typing as npt
import soundfile

from umbrick.core.sound.sound_file import open_sound

_BLOCK_FRAMES = 65536
_LEAST_BYTES_A_SECOND = 250

Decoded = npt.NDArray[np.floating]
"""Audio of shape ``(frames, channels)``, with the bits that the file has."""


class Decoder(Protocol):
    """A compressed file, open for decoding. ``blocks`` is called once; ``close`` in every case.

    ``is_double`` tells whether float32 would lose bits.
    """

    @property
    def path(self) -> Path:
        """The file."""
        ...

    @property
    def rate(self) -> int:
        """Frames a second."""
        ...

    @property
    def channels(self) -> int:
        """Number of channels."""
        ...

    @property
    def stated(self) -> int | None:
        """Length as the file says, or None where it does not."""
        ...

    @property
    def is_double(self) -> bool:
        """Whether blocks come as float64."""
        ...

    def promised(self) -> int | None:
        """Return the length that the file looks as if it had, or None where only its end tells; it may take a while."""
        ...

    def blocks(self) -> Iterator[Decoded]:
        """Yield the frames in order, until they end or cannot be decoded any further."""
        ...

    def close(self) -> None:
        """Let go of the file."""
        ...


class SoundFileDecoder:
    """Decodes what libsndfile reads; OSError or soundfile.LibsndfileError if it cannot."""

    is_double = False

    def __init__(self, path: Path) -> None:
        self.path = path
        self._file = open_sound(path)
        self.rate: int = self._file.samplerate
        self.channels: int = self._file.channels
        self.stated: int = self._file.frames

    def promised(self) -> int | None:
        """Return the stated length, if the last frame is there and the file's size makes it likely.

        Any header can claim any length. Digital silence is the one sound that takes less, and is quickly decoded.
        """
        return self.stated if self._is_likely() else None

    def _is_likely(self) -> bool:
        with open_sound(self.path) as file:
            if self.path.stat().st_size * file.samplerate < _LEAST_BYTES_A_SECOND * self.stated:
                return False
            try:
                file.seek(self.stated - 1)
                return len(file.read(out=np.empty((1, file.channels), np.float32))) == 1
            except (soundfile.LibsndfileError, RuntimeError, ValueError):
                return False

    def blocks(self) -> Iterator[Decoded]:
        """Yield the frames.

        Where a file ends before its header says, the library may fail after it has decoded the last of it: how much
        that was is told by what it has left as it was.
        """
        room = np.empty((_BLOCK_FRAMES, self.channels), np.float32)
        decoded, is_whole = 0, True
        while is_whole and decoded < self.stated:
            wanted = room[: self.stated - decoded]
            wanted[:] = np.nan
            try:
                came = len(self._file.read(out=wanted))
            except (soundfile.LibsndfileError, RuntimeError):
                filled = np.flatnonzero(~np.isnan(wanted).any(axis=1))
                came = int(filled[-1]) + 1 if len(filled) else 0
            is_whole = came == len(wanted)
            decoded += came
            yield wanted[:came]

    def close(self) -> None:
        """Let go of the file."""
        self._file.close()
