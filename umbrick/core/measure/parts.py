"""The parts of a recording, from pause to pause, with their loudness and peaks side by side."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from umbrick.core.csv_table import csv_text
from umbrick.core.errors import CancelledError
from umbrick.core.measure.loudness import LoudnessMeter, loudness_of
from umbrick.core.sound.source import Source
from umbrick.core.units import amplitude_to_db, format_clock

STEP_SECONDS = 0.1
_BLOCK_FRAMES = 2**18
_PAUSE_DB = 22.0
_SHORTEST_PAUSE_STEPS = 4
_SHORTEST_SECONDS, _LONGEST_SECONDS = 2.5, 30.0
_UNREMARKABLE_DB = 2.0
_MOST_CHANGE_DB = 12.0
_GRAIN_DB = 0.5
_QUIETEST_LUFS = -70.0
_LEFT_STICKING_OUT_DB = 3.0


@dataclass(frozen=True, slots=True)
class Part:
    """A part, or a single peak in it: its frames, its loudness, its peak, and the change of level that is proposed.

    ``proposed_db`` brings a part to the loudness that is usual for the recording, in steps of half a decibel, and is 0
    where it is within 2 dB of that; a peak it brings down to 3 dB over its surroundings.
    """

    start: int
    stop: int
    loudness_lufs: float
    peak_dbfs: float
    proposed_db: float
    is_peak: bool = False

    @property
    def note(self) -> str:
        """What an editor would write down."""
        if self.is_peak:
            return "sticks out"
        if not self.proposed_db:
            return ""
        return "too quiet" if self.proposed_db > 0 else "too loud"


@dataclass(frozen=True, eq=False)
class Steps:
    """Energy (K-weighted) and peak of every tenth of a second of a sound."""

    rate: int
    frames: int
    step: int
    energy: npt.NDArray[np.float64]
    peak: npt.NDArray[np.float64]


def measure_steps(
    source: Source,
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> Steps:
    """Return the steps of a whole sound.

    Raises
    ------
    FileError
        If the source fails.
    CancelledError
        If ``is_cancelled`` says so.
    """
    meter = LoudnessMeter(source.rate, source.channels)
    step = max(1, round(STEP_SECONDS * source.rate))
    peaks, left = [], np.zeros(0, np.float32)
    for start in range(0, source.frames, _BLOCK_FRAMES):
        if is_cancelled():
            raise CancelledError
        sound = source.read(start, min(start + _BLOCK_FRAMES, source.frames))
        meter.feed(sound)
        size = np.concatenate([left, np.abs(sound).max(axis=1)])
        whole = len(size) // step * step
        peaks.append(size[:whole].reshape(-1, step).max(axis=1))
        left = size[whole:]
        progress(min(1.0, (start + len(sound)) / source.frames))
    energy = meter.energies()
    peak = np.concatenate(peaks).astype(np.float64) if peaks else np.zeros(0)
    count = min(len(energy), len(peak))
    return Steps(source.rate, source.frames, step, energy[:count], peak[:count])


def parts_of(steps: Steps, borders: Sequence[int] = ()) -> list[Part]:
    """Return the parts of a sound in order.

    Parameters
    ----------
    steps : Steps
    borders : sequence of int
        Frames at which a part ends in any case, such as level steps.
    """
    count = len(steps.energy)
    if not count:
        return []
    cuts = _cuts(steps, [round(frame / steps.step) for frame in borders])
    spans = list(zip([0, *cuts], [*cuts, count], strict=True))
    loudness = [_loudness(steps.energy[a:b]) for a, b in spans]
    sounding = [(value, b - a) for value, (a, b) in zip(loudness, spans, strict=True) if value > _QUIETEST_LUFS]
    usual = _weighted_median(sounding) if sounding else 0.0
    parts = []
    for value, (a, b) in zip(loudness, spans, strict=True):
        change = usual - value if value > _QUIETEST_LUFS and abs(usual - value) >= _UNREMARKABLE_DB else 0.0
        peak_dbfs = amplitude_to_db(float(steps.peak[a:b].max()))
        proposed = _rounded(float(np.clip(change, -_MOST_CHANGE_DB, _MOST_CHANGE_DB)))
        stop = steps.frames if b == count else b * steps.step
        parts.append(Part(a * steps.step, stop, value, peak_dbfs, proposed))
    return parts


def sticking_out(parts: Sequence[Part], start: int, stop: int, excess_db: float) -> Part:
    """Return a peak as a part of its own: a span that is ``excess_db`` over what is around."""
    home = next((part for part in parts if part.start <= start < part.stop), parts[-1])
    return replace(
        home, start=start, stop=stop, proposed_db=-_rounded(max(0.0, excess_db - _LEFT_STICKING_OUT_DB)), is_peak=True
    )


def parts_as_csv(parts: Sequence[Part], rate: int) -> str:
    """Return parts as a table of notes with times."""
    rows: list[Sequence[object]] = [
        ("start", "end", "start_frame", "end_frame", "loudness_lufs", "peak_dbfs", "proposed_db", "note")
    ]
    rows += [
        (
            format_clock(part.start, rate),
            format_clock(part.stop, rate),
            part.start,
            part.stop,
            f"{part.loudness_lufs:.1f}",
            f"{part.peak_dbfs:.1f}",
            f"{part.proposed_db:+.1f}",
            part.note,
        )
        for part in parts
    ]
    return csv_text(rows)


def _cuts(steps: Steps, borders: list[int]) -> list[int]:
    """Return the steps at which parts end: middles of pauses, the borders asked for, and quiet places between."""
    level_db = 10 * np.log10(np.maximum(steps.energy, 1e-12))
    quiet = level_db < np.percentile(level_db, 90) - _PAUSE_DB
    edges = np.flatnonzero(np.diff(quiet, prepend=False, append=False))
    pauses = [
        (int(a) + int(b)) // 2 for a, b in zip(edges[::2], edges[1::2], strict=True) if b - a >= _SHORTEST_PAUSE_STEPS
    ]
    shortest, longest = (round(seconds / STEP_SECONDS) for seconds in (_SHORTEST_SECONDS, _LONGEST_SECONDS))
    cuts: list[int] = []
    for cut in sorted({*pauses, *borders}):
        if cut - (cuts[-1] if cuts else 0) >= shortest and len(level_db) - cut >= shortest:
            cuts.append(cut)
        elif cut in borders and cuts and cut - (cuts[-2] if len(cuts) > 1 else 0) >= shortest:
            cuts[-1] = cut
    filled: list[int] = []
    for cut in [*cuts, len(level_db)]:
        while cut - (filled[-1] if filled else 0) > longest:
            first = (filled[-1] if filled else 0) + longest // 2
            filled.append(first + int(np.argmin(level_db[first : first + longest // 2])))
        filled.append(cut)
    return filled[:-1]


def _loudness(energy: npt.NDArray[np.float64]) -> float:
    """Return the loudness of a part, its pauses left out: steps more than 10 dB below its mean do not count."""
    mean = float(energy.mean()) if len(energy) else 0.0
    loud = energy[energy >= mean / 10]
    return loudness_of(float(loud.mean())) if len(loud) and mean > 0 else -120.0


def _weighted_median(values: list[tuple[float, int]]) -> float:
    ordered = sorted(values)
    sums = np.cumsum([weight for _, weight in ordered])
    return ordered[int(np.searchsorted(sums, sums[-1] / 2))][0]


def _rounded(change_db: float) -> float:
    return round(change_db / _GRAIN_DB) * _GRAIN_DB
