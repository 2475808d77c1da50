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

    ``promised`` is how many frames the file says it has, or None where only its end tells. ``is_double`` tells whether
    float32 would lose bits.
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
    def promised(self) -> int | None:
        """Length as the file says."""
        ...

    @property
    def is_double(self) -> bool:
        """Whether blocks come as float64."""
        ...

    def bears_out(self) -> bool:
        """Whether the file looks as if it had all that it promises."""
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
        self.promised: int = self._file.frames

    def bears_out(self) -> bool:
        """Whether the last frame is there, and no more sound claimed than the file's size makes likely.

        Any header can claim any length. Digital silence is the one sound that takes less, and is quickly decoded.
        """
        with open_sound(self.path) as file:
            if self.path.stat().st_size * file.samplerate < _LEAST_BYTES_A_SECOND * self.promised:
                return False
            try:
                file.seek(self.promised - 1)
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
        while is_whole and decoded < self.promised:
            wanted = room[: self.promised - decoded]
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
