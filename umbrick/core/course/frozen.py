"""What a course makes of a stretch, frozen as a sound file of its own."""

from __future__ import annotations

import hashlib
import os
import threading
from collections.abc import Callable
from pathlib import Path

import numpy as np
import numpy.typing as npt
import soundfile

from umbrick.core.course.ahead import read_ahead
from umbrick.core.course.rendered import TILE
from umbrick.core.course.step import Spans
from umbrick.core.errors import FileError
from umbrick.core.sound.blocks import blocks_of
from umbrick.core.sound.file_source import FileSource
from umbrick.core.sound.part_file import PartFile, sweep
from umbrick.core.sound.source import Samples, check_span
from umbrick.core.sound.whole_file import explained, make_safe
from umbrick.core.timeline.patch import Nature
from umbrick.core.timeline.version import Version

ENDING = ".w64"


class FrozenSource:
    """A sound file beside a casebook; it is opened when it is first read.

    Parameters
    ----------
    path : Path
        The file, named after its content.
    rate, channels, frames : int
        What it must have.
    """

    nature = Nature.FILTERED
    donor: int | None = None

    def __init__(self, path: Path, rate: int, channels: int, frames: int) -> None:
        self.path = path
        self.key = f"frozen:{path.stem}"
        self.rate, self.channels, self.frames = rate, channels, frames
        self._lock = threading.Lock()
        self._file: FileSource | None = None

    @property
    def available(self) -> int:
        """All frames."""
        return self.frames

    def read(self, start: int, stop: int) -> Samples:
        """Return the frames as float32; FileError if the file is missing or another."""
        check_span(start, stop, self.frames)
        return self._opened().read(start, stop)

    def read_exact(self, start: int, stop: int) -> npt.NDArray[np.float64]:
        """Return the frames as float64; FileError if the file is missing or another."""
        check_span(start, stop, self.frames)
        return self._opened().read_exact(start, stop)

    def is_intact(self) -> bool:
        """Whether the file is there, and as long as it should be."""
        try:
            self._opened()
        except FileError:
            return False
        return True

    def _opened(self) -> FileSource:
        with self._lock:
            if self._file is None:
                try:
                    file = FileSource(self.path, self.key)
                except (soundfile.LibsndfileError, RuntimeError, OSError) as error:
                    raise FileError(f"The settled sound {self.path.name} cannot be read.") from error
                if (file.rate, file.channels, file.frames) != (self.rate, self.channels, self.frames):
                    file.close()
                    raise FileError(f"The settled sound {self.path.name} is not what it was.")
                self._file = file
            return self._file


def freeze(
    outcome: Version,
    spans: Spans,
    folder: Path,
    is_double: bool,
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> FrozenSource:
    """Write what is heard in spans to one sound file, and return it; the file is whole and on the disk then.

    Parameters
    ----------
    outcome : Version
        A version through its course.
    spans : spans
        In order and apart, at least one.
    folder : Path
        Where the file goes, under the name of its content.
    is_double : bool
        Whether to write double precision: where single would lose bits of what the course does not touch.

    Raises
    ------
    FileError
        If it cannot be written; nothing is left of it then.
    CancelledError
        If ``is_cancelled`` says so.
    """
    digest = hashlib.blake2b(digest_size=16)
    subtype = "DOUBLE" if is_double else "FLOAT"
    try:
        folder.mkdir(parents=True, exist_ok=True)
        sweep(folder)
        with PartFile(folder, ENDING) as part, read_ahead(outcome, spans) as sound:
            handle = os.dup(part.handle)
            with soundfile.SoundFile(
                handle, "w", outcome.rate, outcome.channels, subtype, format="W64", closefd=True
            ) as file:
                for start, stop in blocks_of(spans, TILE, progress, is_cancelled):
                    block = sound.read_exact(start, stop)
                    digest.update(block.tobytes())
                    file.write(block)
            path = folder / f"{digest.hexdigest()}{ENDING}"
            part.take_name(path)
        make_safe(folder)
    except soundfile.LibsndfileError as error:
        raise FileError("The settled sound cannot be written.", "Make room on the disk.") from error
    except OSError as error:
        raise FileError(*explained(error, folder)) from error
    return FrozenSource(path, outcome.rate, outcome.channels, sum(stop - start for start, stop in spans))
