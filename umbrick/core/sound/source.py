"""A source: an immutable run of frames that can be read at random."""

from __future__ import annotations

from typing import Protocol

import numpy as np
import numpy.typing as npt

Samples = npt.NDArray[np.float32]
"""Audio of shape ``(frames, channels)``."""


class Source(Protocol):
    """An immutable run of frames, readable at random by any thread.

    ``key`` names the content: equal keys mean equal frames, so whatever is derived from a source can be cached
    under it. ``available`` counts the frames that can be read at once; it grows up to ``frames`` while a compressed
    file is being decoded.
    """

    @property
    def key(self) -> str:
        """The content's name."""
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
    def frames(self) -> int:
        """Length."""
        ...

    @property
    def available(self) -> int:
        """Frames that can be read without waiting."""
        ...

    def read(self, start: int, stop: int) -> Samples:
        """Return frames ``start`` to ``stop`` as float32, waiting for those not yet available.

        Raises
        ------
        FileError
            If the medium fails under it.
        """
        ...

    def read_exact(self, start: int, stop: int) -> npt.NDArray[np.float64]:
        """Return the same frames as float64, with every bit of the file (32-bit integers and doubles too)."""
        ...


class ArraySource:
    """A source held in memory: the rebuilt samples of a mend, or a test signal.

    Parameters
    ----------
    samples : array_like, shape (frames, channels) or (frames,)
        Copied and made read-only; a single dimension is taken for mono.
    rate : int
        Frames a second.
    key : str
        A name for the content, unique within the program's run.
    """

    def __init__(self, samples: npt.ArrayLike, rate: int, key: str) -> None:
        exact = np.array(samples, order="C", ndmin=1)
        if exact.ndim == 1:
            exact = exact[:, np.newaxis]
        array = exact.astype(np.float32)
        # Untouched channels of a 32-bit or double file may hold more than float32 keeps.
        self._exact = exact if exact.dtype == np.float64 and not np.array_equal(array, exact) else None
        array.flags.writeable = False
        self._samples = array
        self.key = key
        self.rate = rate
        self.frames = len(array)
        self.channels = len(array[0]) if len(array) else exact.shape[1]

    @property
    def available(self) -> int:
        """All frames."""
        return self.frames

    def read(self, start: int, stop: int) -> Samples:
        """Return a read-only view of the frames."""
        check_span(start, stop, self.frames)
        return self._samples[start:stop]

    def read_exact(self, start: int, stop: int) -> npt.NDArray[np.float64]:
        """Return the frames as float64."""
        if self._exact is not None:
            check_span(start, stop, self.frames)
            return self._exact[start:stop].copy()
        return self.read(start, stop).astype(np.float64)


def check_span(start: int, stop: int, frames: int) -> None:
    """Raise IndexError unless ``0 <= start <= stop <= frames``: a programming error, never a person's."""
    if not 0 <= start <= stop <= frames:
        raise IndexError(f"span {start}:{stop} outside 0:{frames}")
