"""The survey of a recording: one pass, all detectors, the whole-recording measures, and the prognosis."""

from __future__ import annotations

import heapq
from collections import deque
from collections.abc import Callable, Iterable, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import partial
from itertools import compress
from typing import Any, NamedTuple, TypeVar

import numpy as np
import numpy.typing as npt

from umbrick.core.measure.clipped_passages import PASSAGE_SECONDS, PassageMeter, Passages, clipping_outlook
from umbrick.core.measure.levels import LevelMeter, Levels
from umbrick.core.measure.loudness import LoudnessMeter
from umbrick.core.measure.prognosis import Outlook, holes_outlook, noise_outlook, worst
from umbrick.core.sound.source import Source
from umbrick.core.survey.detector import Block, Detector, Format, Kind
from umbrick.core.survey.finding import Finding
from umbrick.core.survey.one_event import one_event_each
from umbrick.core.survey.streaming import blocks
from umbrick.core.survey.table import FindingTable
from umbrick.core.units import amplitude_to_db


@dataclass(frozen=True, slots=True)
class Measures:
    """What was measured of a whole recording; levels in dB, ``clipped_share`` from 0 to 1 of all samples."""

    peak_dbfs: float
    true_peak_dbtp: float
    loudness_lufs: float
    noise_floor_dbfs: float
    clipped_share: float
    prognosis: Outlook
    hum_hz: float | None = None
    """The mains fundamental, if hum was found."""


@dataclass(frozen=True, slots=True, eq=False)
class Survey:
    """What a survey of ``frames`` frames found: every finding it measured, before any sifting, and the levels."""

    table: FindingTable
    frames: int
    channels: int
    levels: Levels
    loudness_lufs: float
    passages: Passages

    def sifted(self, sensitivity: Mapping[str, float]) -> list[Finding]:
        """Return the findings that pass the sensitivity of their kind."""
        return list(compress(self.table.findings, self.table.passing(sensitivity)))

    def measures(self, sensitivity: Mapping[str, float]) -> Measures:
        """Return the whole-recording measures; what depends on findings counts those that pass the sensitivity."""
        table = self.table
        clipped = table.passing(sensitivity) & table.of_kind("clipping")
        return Measures(
            peak_dbfs=amplitude_to_db(self.levels.peak),
            true_peak_dbtp=amplitude_to_db(self.levels.true_peak),
            loudness_lufs=self.loudness_lufs,
            noise_floor_dbfs=self.levels.noise_floor_dbfs,
            clipped_share=int(table.samples[clipped].sum()) / max(1, self.frames * self.channels),
            hum_hz=self._hum_hz(sensitivity),
            prognosis=self._prognosis(sensitivity, clipped),
        )

    def _prognosis(self, sensitivity: Mapping[str, float], clipped: npt.NDArray[np.bool_]) -> Outlook:
        table, passing = self.table, self.table.passing(sensitivity)
        rate = self.passages.frames / PASSAGE_SECONDS
        holes = passing & table.of_kind("dropout")
        noise = [table.findings[row].detail["ratio_db"] for row in np.flatnonzero(passing & table.of_kind("hiss"))]
        channels = len(np.unique(table.channels[clipped]))
        return worst(
            [
                clipping_outlook(table.starts[clipped], table.samples[clipped], channels, self.passages),
                holes_outlook((table.stops - table.starts)[holes] / rate, self.frames / rate),
                noise_outlook(min(noise) if noise else None),
            ]
        )

    def _hum_hz(self, sensitivity: Mapping[str, float]) -> float | None:
        rows = np.flatnonzero(self.table.passing(sensitivity) & self.table.of_kind("hum"))
        return float(self.table.findings[rows[0]].detail["fundamental_hz"]) if len(rows) else None


_WORKERS = 2
_LONG_FRAMES = 1 << 27

_T = TypeVar("_T")


def _any_level() -> np.errstate:
    """Let samples of absurd size, as broken float files have, overflow; what is beside them is not looked at then."""
    return np.errstate(over="ignore", invalid="ignore", divide="ignore")


def _within(finding: Finding, frames: int) -> Finding:
    if finding.stop <= frames:
        return finding
    return replace(finding, start=min(finding.start, frames - 1), stop=frames)


def _at_any_level(work: Callable[[], _T]) -> _T:
    with _any_level():
        return work()


def _started(works: Iterable[Callable[[], _T]], pool: ThreadPoolExecutor | None) -> list[Callable[[], _T]]:
    """Return what gives the results of works, which go on side by side if there is a pool, else are done when asked."""
    if pool is None:
        return [partial(_at_any_level, work) for work in works]
    return [pool.submit(_at_any_level, work).result for work in works]


def _all_done(works: Iterable[Callable[[], _T]], pool: ThreadPoolExecutor | None) -> list[_T]:
    return [result() for result in _started(works, pool)]


class _Layers(NamedTuple):
    """A block of the outcome, and of what lies beneath the course: the same one if there is none."""

    outcome: Block
    beneath: Block


def _needs(kinds: Iterable[Kind]) -> list[Callable[[Block], Any]]:
    # Two of one kind are one; the order stays, as what is quick to make comes first.
    return list(dict.fromkeys(measure for kind in kinds for measure in kind.needs))


class Surveyor:
    """Runs a survey, and can say at any time what it has found so far.

    Parameters
    ----------
    source : Source
        A recording or a version of one.
    bits : int or None
        Bits a sample of its file, None for float.
    kinds : sequence of Kind
        What to look for.
    prefix : str
        What the findings' ids begin with, before ``f1``, ``f2`` and so on.
    beneath : Source, optional
        What the course is laid over in ``source``, if one is: damage is looked for there.
    """

    def __init__(
        self,
        source: Source,
        bits: int | None,
        kinds: Sequence[Kind],
        prefix: str = "",
        beneath: Source | None = None,
    ) -> None:
        self._source = source
        self._beneath = None if beneath is source else beneath
        self._of_outcome = {kind.name for kind in kinds if kind.of_outcome}
        self._prefix = prefix
        form = Format(source.rate, source.channels, 2.0 ** (1 - bits) if bits else 0.0)
        self._detectors: dict[str, Detector] = {kind.name: kind.make(form) for kind in kinds}
        self._levels = LevelMeter(source.rate, source.channels)
        self._loudness = LoudnessMeter(source.rate, source.channels)
        self._passages = PassageMeter(source.rate)
        self._needs = _needs(kinds) if self._beneath is None else _needs(k for k in kinds if k.of_outcome)
        self._needs_beneath = _needs(kind for kind in kinds if not kind.of_outcome)
        self._frames = 0
        self._fed = 0
        self._feeding: tuple[_Layers, list[Callable[[], None]]] | None = None

    def run(
        self,
        progress: Callable[[float], None] = lambda _: None,
        is_cancelled: Callable[[], bool] = lambda: False,
        found: Callable[[Survey], None] | None = None,
        leaves_a_core: Callable[[], bool] = lambda: False,
    ) -> Survey:
        """Survey the whole source.

        ``leaves_a_core`` is asked for every block: while it says so, one thread works at a time, and another core is
        free for what must not wait, such as playing.

        ``found`` is called with what there is so far after 1, 2, 4, 8… blocks, so that all these looks together cost
        no more than the last one.

        Raises
        ------
        FileError
            If the source fails.
        CancelledError
            If ``is_cancelled`` says so; :meth:`so_far` then tells what came.
        """
        due = 1
        with ThreadPoolExecutor(_WORKERS, "survey") as pool:
            ahead: deque[tuple[_Layers, Future[None]]] = deque()
            try:
                for block in blocks(self._source, progress, is_cancelled):
                    layers = _Layers(block, self._beside(block))
                    ahead.append((layers, pool.submit(self._prepare, layers)))
                    alone = leaves_a_core()
                    while len(ahead) > (0 if alone else _WORKERS):
                        # One block is fed while the next is read and prepared.
                        self._finish_feeding()
                        if found and self._fed == due:
                            found(self._told(self._found(None if alone else pool)))
                            due *= 2
                        self._start_feeding(*ahead.popleft(), None if alone else pool)
            finally:
                # What has been read is not lost, however it ends.
                self._finish_feeding()
                while ahead:
                    self._start_feeding(*ahead.popleft(), pool)
                    self._finish_feeding()
            return self._told(self._found(None if leaves_a_core() else pool))

    def _beside(self, block: Block) -> Block:
        """Return the same block of what lies beneath the course."""
        if self._beneath is None:
            return block
        first = block.start - block.before
        samples = self._beneath.read(first, first + len(block.samples))
        return Block(block.start, block.stop, samples, block.before, block.rate)

    def _prepare(self, layers: _Layers) -> None:
        """Have a block make what detectors share; blocks do that side by side."""
        with _any_level():
            for measure in self._needs:
                layers.outcome.shared(measure)
            if layers.beneath is not layers.outcome:
                for measure in self._needs_beneath:
                    layers.beneath.shared(measure)

    def _start_feeding(self, layers: _Layers, prepared: Future[None], pool: ThreadPoolExecutor | None) -> None:
        """Feed a block to everyone; each is fed in order and by one thread at a time: threads change nothing."""
        prepared.result()
        feeds: list[Callable[[], None]] = [
            partial(detector.feed, layers.outcome if name in self._of_outcome else layers.beneath)
            for name, detector in self._detectors.items()
        ]
        feeds += [partial(meter.feed, layers.outcome.own) for meter in (self._levels, self._loudness)]
        feeds.append(partial(self._passages.feed, layers.beneath.own))
        self._feeding = layers, _started(feeds, pool)

    def _finish_feeding(self) -> None:
        if self._feeding is not None:
            layers, works = self._feeding
            self._feeding = None
            for work in works:
                work()
            self._frames = layers.outcome.stop
            self._fed += 1

    def so_far(self) -> Survey:
        """Return what the blocks up to now have shown."""
        return self._told(self._found(None))

    def _found(self, pool: ThreadPoolExecutor | None) -> dict[str, list[Finding]]:
        # Of hours each holds much; working on two at once would take the most memory of all.
        pool = pool if self._frames < _LONG_FRAMES else None
        asked = {name: detector.findings for name, detector in self._detectors.items() if self._fed}
        return dict(zip(asked, _all_done(asked.values(), pool), strict=True))

    def _told(self, found: dict[str, list[Finding]]) -> Survey:
        kept = one_event_each(found, self._source.rate)
        # What is measured in windows may reach past the end by less than one.
        inside = ((_within(f, self._frames) for f in findings) for findings in kept.values())
        findings = heapq.merge(*inside, key=lambda finding: finding.start)
        named = (replace(finding, id=f"{self._prefix}f{number}") for number, finding in enumerate(findings, 1))
        return Survey(
            FindingTable.of(named),
            self._frames,
            self._source.channels,
            self._levels.levels(),
            self._loudness.integrated_lufs(),
            self._passages.passages(),
        )
