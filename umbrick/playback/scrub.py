"""Scrubbing: sound that follows the hand forward and backward, down to a crawl."""

from __future__ import annotations

from collections import deque

import numpy as np

from umbrick.playback.output import Block

SCRUB_FRAMES = 256
"""Frames of a block while scrubbing: the hand is looked at as often as that."""

_FOLLOWED_IN_SECONDS = 0.012
_SOONEST_STILL_SECONDS, _LATEST_STILL_SECONDS = 0.02, 0.06
"""A hand of which nothing has been told for two and a half of its usual intervals rests; within these bounds."""

_VELOCITY_SECONDS = 0.03
_FASTEST = 24.0
_AUDIBLE_SPEED = 0.04
"""Below this speed the sound fades out: a hand that rests is not to hold a sample as a constant."""


class Hand:
    """Where the hand is and was: positions in frames, with the times at which they were told."""

    def __init__(self, position: float, at: float) -> None:
        self._told: deque[tuple[float, float]] = deque([(at, position)], maxlen=8)

    def moved(self, position: float, at: float) -> None:
        """Take down where the hand is now."""
        self._told.append((at, position))

    def _still_after(self) -> float:
        moments = [at for at, _ in list(self._told)]
        usual = float(np.median(np.diff(moments))) if len(moments) > 1 else 0.0
        return min(max(_SOONEST_STILL_SECONDS, 2.5 * usual), _LATEST_STILL_SECONDS)

    def velocity(self, at: float) -> float:
        """Return how fast it moves, in frames a second; 0 once nothing has been told for a while."""
        told = list(self._told)
        last, position = told[-1]
        earlier = [moment for moment in told if last - moment[0] >= 0.25 * _VELOCITY_SECONDS]
        if at - last > self._still_after() or not earlier:
            return 0.0
        then, place = next((m for m in reversed(earlier) if last - m[0] >= _VELOCITY_SECONDS), earlier[0])
        return (position - place) / (last - then)

    def expected(self, at: float) -> float:
        """Return where it will be: where it was told to be, moving on until it is known to rest."""
        last, position = self._told[-1]
        return position + self.velocity(at) * max(0.0, at - last)


class Scrubber:
    """Follows a hand over a recording.

    Parameters
    ----------
    position : float
        The frame it begins at.
    rate, frames : int
        Of the recording.
    """

    def __init__(self, position: float, rate: int, frames: int) -> None:
        self.position = position
        self._rate = rate
        self._frames = frames
        self._speed = 0.0
        self._level = 0.0

    def path(self, hand: Hand, at: float, count: int) -> np.ndarray:
        """Return the positions of the next frames, shape ``(count + 1,)``; the last is where the next path begins.

        The speed changes steadily, and settles on that of the hand: at a constant speed nothing lags behind.
        """
        expected = min(max(0.0, hand.expected(at)), self._frames)
        pull = (expected - self.position) / (_FOLLOWED_IN_SECONDS * self._rate)
        wanted = hand.velocity(at) / self._rate + pull
        if abs(wanted) > _FASTEST:
            # Too fast to be heard: be there at once.
            self.position, wanted = expected, float(np.clip(wanted, -_FASTEST, _FASTEST))
        steps = np.linspace(self._speed, wanted, count + 1)
        self._speed = wanted
        path = self.position + np.concatenate([[0.0], np.cumsum((steps[:-1] + steps[1:]) / 2)])
        path = np.clip(path, 0.0, self._frames)
        self.position = float(path[-1])
        return path

    def faded(self, sound: Block) -> Block:
        """Return the sound at the level that suits the speed."""
        level = min(1.0, abs(self._speed) / _AUDIBLE_SPEED)
        gains = np.linspace(self._level, level, len(sound), dtype=np.float32)
        self._level = level
        return sound * gains[:, np.newaxis]


def reach_of(path: np.ndarray) -> tuple[int, int]:
    """Return the span of frames that must be read for a path."""
    widest = max(1.0, float(np.abs(np.diff(path)).max()))
    return int(path.min() - widest) - 1, int(path.max() + widest) + 3


def resampled(sound: Block, first: int, path: np.ndarray) -> Block:
    """Return sound along a path through it; ``first`` is the frame the sound begins with.

    Every output is the mean over the stretch that the hand passes meanwhile, of at least one frame: sound that goes
    by too fast to be heard does not alias.
    """
    centres = (path[:-1] + path[1:]) / 2 - first
    half = np.maximum(1.0, np.abs(np.diff(path))) / 2
    sums = np.concatenate([np.zeros((1, sound.shape[1])), np.cumsum(sound, axis=0, dtype=np.float64)])
    at = np.arange(len(sums))
    result = np.empty((len(centres), sound.shape[1]), np.float32)
    for channel in range(sound.shape[1]):
        # A frame's sample stands in the middle of the frame.
        upper = np.interp(centres + 0.5 + half, at, sums[:, channel])
        lower = np.interp(centres + 0.5 - half, at, sums[:, channel])
        result[:, channel] = (upper - lower) / (2 * half)
    return result
