"""How much of the loud passages is clipped and how deeply: what declipping can be expected to give."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.measure.prognosis import NOTHING_WRONG, Outlook

PASSAGE_SECONDS = 0.1
_LOUD_SHARE_OF_PEAK = 0.5
_LIGHT, _DEEP = 0.012, 0.05
"""Shares of clipped samples within clipped passages, at which planted clipping is rebuilt to more than about 35 dB,
and less than about 15 dB, of signal to error (see the declipping benchmark)."""

_MOST_PASSAGES = 0.5
_FEW_PASSAGES = 0.1


class Passages(NamedTuple):
    """The peaks of passages of ``frames`` frames each, over all channels."""

    frames: int
    peaks: npt.NDArray[np.float32]


class PassageMeter:
    """Collects the peaks of passages of a tenth of a second, over all channels."""

    def __init__(self, rate: int) -> None:
        self.frames = max(1, round(PASSAGE_SECONDS * rate))
        self._left = np.zeros(0, np.float32)
        self._peaks: list[npt.NDArray[np.float32]] = []

    def feed(self, samples: npt.NDArray[np.float32]) -> None:
        """Measure the samples, of shape ``(frames, channels)``, that follow the last ones."""
        size = np.concatenate([self._left, np.abs(samples).max(axis=1)])
        whole = len(size) // self.frames * self.frames
        self._peaks.append(size[:whole].reshape(-1, self.frames).max(axis=1))
        self._left = size[whole:]

    def passages(self) -> Passages:
        """Return the passages so far; the last may be short."""
        last = [np.array([self._left.max()], np.float32)] if len(self._left) else []
        peaks = np.concatenate([*self._peaks, *last]) if self._peaks or last else np.zeros(0, np.float32)
        return Passages(self.frames, peaks)


def clipping_outlook(
    starts: npt.NDArray[np.int64], samples: npt.NDArray[np.int64], channels: int, passages: Passages
) -> Outlook:
    """Return what mending clipping can be expected to give.

    Parameters
    ----------
    starts, samples : ndarray of int
        For each run of clipped samples, its first frame and how many samples it has.
    channels : int
        Number of channels that have any.
    passages : Passages
        Of the whole recording.
    """
    if not len(starts):
        return NOTHING_WRONG
    peaks = passages.peaks
    loud = peaks >= _LOUD_SHARE_OF_PEAK * peaks.max()
    clipped = np.bincount(np.minimum(starts // passages.frames, len(peaks) - 1), samples, minlength=len(peaks))
    hit = clipped > 0
    depth = float(clipped.sum()) / (int(np.count_nonzero(hit)) * passages.frames * channels)
    share = int(np.count_nonzero(hit & loud)) / max(1, int(np.count_nonzero(loud)))
    where = _where(share)
    if depth >= _DEEP and share >= _FEW_PASSAGES:
        return Outlook("poor", f"{where} clipped, and deeply: some harshness will stay.")
    if depth >= _DEEP:
        return Outlook("fair", f"{where} clipped, but deeply: expect those to stay rough, the rest clean.")
    if depth >= _LIGHT and share >= _MOST_PASSAGES:
        return Outlook("fair", f"{where} clipped: expect most of it mended, with a little harshness left.")
    lightly = ", but lightly" if depth < _LIGHT else ""
    return Outlook("good", f"{where} clipped{lightly}: expect a clean result.")


def _where(share: float) -> str:
    if share >= _MOST_PASSAGES:
        return f"Most loud passages ({100 * share:.0f} %) are"
    percent = f"{100 * share:.0f} %" if share >= 0.01 else "Less than 1 %"
    return f"{percent} of the loud passages {'are' if share >= 0.01 else 'is'}"
