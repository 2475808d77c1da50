"""Uncompressed files, read in place."""

from __future__ import annotations

import threading
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt
import soundfile

from umbrick.core.errors import CancelledError, FileError
from umbrick.core.sound.sound_file import open_sound, stamp_of
from umbrick.core.sound.source import Samples, check_span

_BEYOND_SOUND = 1e9
"""180 dB over full scale: nothing that was ever sound, and its square would overflow."""


_BRIEF_FRAMES = 1 << 15


class _Handle(NamedTuple):
    file: soundfile.SoundFile
    lock: threading.Lock


class FileSource:
    """A file whose frames can be read at once, wherever they are.

    Samples that are not numbers (NaN, infinity, or beyond all bounds) read as silence; ``non_finite`` counts those met
    by reading the file from the beginning in order, as the pyramid and the survey do.
    """

    def __init__(self, path: Path, key: str) -> None:
        # Long reads (a survey's) have a handle of their own, so that what is played never waits for one to end.
        self._brief, self._long = (_Handle(open_sound(path), threading.Lock()) for _ in range(2))
        file = self._brief.file
        self._is_float = file.subtype in ("FLOAT", "DOUBLE")
        self._scanned_to = 0
        self._scanning = threading.Lock()
        self._stamp = stamp_of(path)
        self.path = path
        self.key = key
        self.rate: int = file.samplerate
        self.channels: int = file.channels
        self.frames: int = file.frames
        self.non_finite = 0

    @property
    def available(self) -> int:
        """All frames."""
        return self.frames

    def read(self, start: int, stop: int) -> Samples:
        """Return the frames as float32."""
        samples: Samples = self._read(start, stop, "float32")
        return samples

    def read_exact(self, start: int, stop: int) -> npt.NDArray[np.float64]:
        """Return the frames as float64."""
        samples: npt.NDArray[np.float64] = self._read(start, stop, "float64")
        return samples

    def is_unchanged(self) -> bool:
        """Whether the file on disk is still the one that was opened."""
        return stamp_of(self.path) == self._stamp

    def close(self) -> None:
        """Let go of the file; reading raises CancelledError from now on."""
        for handle in (self._brief, self._long):
            with handle.lock:
                handle.file.close()

    def _read(self, start: int, stop: int, dtype: str) -> npt.NDArray[Any]:
        check_span(start, stop, self.frames)
        handle = self._brief if stop - start <= _BRIEF_FRAMES else self._long
        with handle.lock:
            if handle.file.closed:
                raise CancelledError  # whoever still reads is no longer wanted
            try:
                handle.file.seek(start)
                samples = handle.file.read(stop - start, dtype=dtype, always_2d=True)
            except (soundfile.LibsndfileError, RuntimeError, OSError) as error:
                raise FileError(f"{self.path.name} cannot be read any more: {error}.") from error
            if len(samples) < stop - start:
                raise FileError(
                    f"{self.path.name} has become shorter since it was opened.",
                    "Another program changed it; open it again.",
                )
            if self._is_float:
                self._silence_non_finite(samples, start, stop)
        return samples

    def _silence_non_finite(self, samples: npt.NDArray[np.floating], start: int, stop: int) -> None:
        bad = ~(np.abs(samples) < _BEYOND_SOUND)
        with self._scanning:
            if start <= self._scanned_to < stop:
                self.non_finite += int(bad[self._scanned_to - start :].sum())
                self._scanned_to = stop
        if bad.any():
            samples[bad] = 0.0
