"""Changing rate and channels on the way out."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import soxr

from umbrick.core.errors import CancelledError, ParameterError
from umbrick.core.sound.source import Source
from umbrick.core.units import channel_name

_BLOCK_FRAMES = 65536
LOWEST_RATE, HIGHEST_RATE = 4000, 768_000


@dataclass(frozen=True, slots=True)
class ChannelChoice:
    """A way to lay out the channels: what a person calls it, and how much of each given channel goes to each new one.

    ``weights`` has a row for each channel given and a column for each written.
    """

    title: str
    weights: tuple[tuple[float, ...], ...]

    @property
    def count(self) -> int:
        """Channels written."""
        return len(self.weights[0])

    @property
    def picks(self) -> bool:
        """Whether each new channel is one of the given ones, as it is."""
        return all(sorted(column) == [0.0] * (len(column) - 1) + [1.0] for column in zip(*self.weights, strict=True))


def channel_choices(channels: int) -> list[ChannelChoice]:
    """Return the layouts offered for a recording of so many channels, the first being the recording's own."""
    eye = tuple(tuple(float(row == column) for column in range(channels)) for row in range(channels))
    choices = [ChannelChoice("As they are", eye)]
    if channels == 1:
        return [*choices, ChannelChoice("The same on left and right", ((1.0, 1.0),))]
    choices.append(ChannelChoice("All mixed to one", ((1.0 / channels,),) * channels))
    for channel in range(channels):
        only = tuple((float(row == channel),) for row in range(channels))
        choices.append(ChannelChoice(f"Only {channel_name(channel, channels)}", only))
    return choices


@dataclass(frozen=True)
class Outgoing:
    """A source as it is to be written: at another rate, or with other channels.

    The rate is changed by band-limited interpolation (the SoX resampler library, very high quality, linear phase).

    Parameters
    ----------
    source : Source
    rate : int
        Frames a second to be written.
    layout : ChannelChoice, optional
        By default the channels stay as they are.

    Raises
    ------
    ParameterError
        If the rate is out of range.
    """

    source: Source
    rate: int
    layout: ChannelChoice | None = None

    def __post_init__(self) -> None:
        if not LOWEST_RATE <= self.rate <= HIGHEST_RATE and self.rate != self.source.rate:
            raise ParameterError(f"A rate lies from {LOWEST_RATE} to {HIGHEST_RATE} Hz, not {self.rate}.")

    @property
    def channels(self) -> int:
        """Channels to be written."""
        return self.layout.count if self.layout else self.source.channels

    @property
    def frames(self) -> int:
        """Frames to be written."""
        return self.place_of(self.source.frames)

    @property
    def is_exact(self) -> bool:
        """Whether every sample is written as it is."""
        return self.rate == self.source.rate and (self.layout is None or self.layout.picks)

    def place_of(self, frame: int) -> int:
        """Return where a frame of the source comes to lie."""
        return -(-frame * self.rate // self.source.rate)

    def blocks(self, is_cancelled: Callable[[], bool] = lambda: False) -> Iterator[npt.NDArray[np.float64]]:
        """Yield the frames to be written, as float64; CancelledError if ``is_cancelled`` says so."""
        if self.rate == self.source.rate:
            for block in self._laid_out(is_cancelled):
                yield block
            return
        resampler = soxr.ResampleStream(self.source.rate, self.rate, self.channels, dtype="float64", quality="VHQ")
        left = self.frames
        for block in self._laid_out(is_cancelled):
            made = resampler.resample_chunk(block)[:left]
            left -= len(made)
            if len(made):
                yield made.reshape(len(made), -1)
        made = resampler.resample_chunk(np.zeros((0, self.channels)), last=True)[:left]
        left -= len(made)
        if len(made):
            yield made.reshape(len(made), -1)
        if left:
            yield np.zeros((left, self.channels))

    def _laid_out(self, is_cancelled: Callable[[], bool]) -> Iterator[npt.NDArray[np.float64]]:
        weights = np.array(self.layout.weights) if self.layout else None
        for start in range(0, self.source.frames, _BLOCK_FRAMES):
            if is_cancelled():
                raise CancelledError
            block = self.source.read_exact(start, min(start + _BLOCK_FRAMES, self.source.frames))
            yield block if weights is None else block @ weights
