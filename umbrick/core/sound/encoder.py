"""What takes blocks of samples on their way into a file."""

from __future__ import annotations

import os
from typing import Protocol

import numpy as np
import numpy.typing as npt
import soundfile

from umbrick.core.sound.formats import FileFormat
from umbrick.core.sound.part_file import PartFile

Block = npt.NDArray[np.float64]
"""Samples of shape ``(frames, channels)``, on the steps of the format already where it is fixed point."""

MOST_FRAMES = 65536
"""Frames written at once. Not more: libsndfile's Vorbis encoder overflows the stack on minutes at a time."""


class Encoder(Protocol):
    """A file being written. ``finish`` completes it; ``close`` lets go of it, finished or not."""

    def write(self, block: Block) -> None:
        """Take the next frames."""
        ...

    def finish(self) -> None:
        """Write what is still held."""
        ...

    def close(self) -> None:
        """Let go of the file."""
        ...


class SoundFileEncoder:
    """Writes what libsndfile writes; soundfile.LibsndfileError or OSError if it cannot."""

    def __init__(self, part: PartFile, form: FileFormat, rate: int, channels: int) -> None:
        self._file = soundfile.SoundFile(
            os.dup(part.handle), "w", rate, channels, form.subtype, format=form.container, closefd=True
        )

    def write(self, block: Block) -> None:
        """Take the next frames."""
        self._file.write(block)

    def finish(self) -> None:
        """Complete the file."""
        self._file.close()

    def close(self) -> None:
        """Let go of the file."""
        self._file.close()
