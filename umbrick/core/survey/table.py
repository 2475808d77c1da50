"""Findings with the columns that are looked up again and again: a hot recording has hundreds of thousands of them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from umbrick.core.survey.finding import DEFAULT_SENSITIVITY, Finding
from umbrick.core.timeline.positions import map_spans
from umbrick.core.timeline.version import Version

Integers = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]


@dataclass(frozen=True, eq=False)
class FindingTable:
    """Findings in order of time, a row each; columns are arrays with one entry a row.

    ``kinds`` indexes ``kind_names``.
    """

    findings: tuple[Finding, ...]
    rows: Mapping[str, int]
    """The row of each finding, by its id."""
    starts: Integers
    stops: Integers
    samples: Integers
    """Frames times channels."""
    channels: Integers
    """The first channel."""
    confidences: npt.NDArray[np.float64]
    severities: npt.NDArray[np.float64]
    kind_names: tuple[str, ...]
    kinds: Integers
    longest: int

    @classmethod
    def of(cls, findings: Iterable[Finding]) -> FindingTable:
        """Return the table of findings, which may come in any order."""
        given = list(findings)
        names = tuple(sorted({finding.kind for finding in given}))
        codes = {name: code for code, name in enumerate(names)}
        # Sorted as arrays: sorting so many objects would keep every other thread waiting.
        starts = np.array([finding.start for finding in given], np.int64)
        kinds = np.array([codes[finding.kind] for finding in given], np.int64)
        channels = np.array([finding.channels[0] for finding in given], np.int64)
        order = np.lexsort((channels, kinds, starts))
        ordered = tuple(given[index] for index in order.tolist())
        starts = starts[order]
        stops = np.array([finding.stop for finding in ordered], np.int64)
        return cls(
            ordered,
            {finding.id: row for row, finding in enumerate(ordered)},
            starts,
            stops,
            (stops - starts) * np.array([len(finding.channels) for finding in ordered], np.int64),
            channels[order],
            np.array([finding.confidence for finding in ordered]),
            np.array([finding.severity for finding in ordered]),
            names,
            kinds[order],
            int((stops - starts).max()) if ordered else 0,
        )

    def moved(self, origin_version: Version, target: Version) -> FindingTable:
        """Return the table with every finding where its sound is in another version; those without sound are left out.

        Both versions descend from one original.
        """
        ends = np.stack([self.starts, self.stops], axis=1)
        spans = map_spans(origin_version, target, ends)
        return FindingTable.of(
            finding if (finding.start, finding.stop) == span else replace(finding, start=span[0], stop=span[1])
            for finding, span in zip(self.findings, spans, strict=True)
            if span[0] < span[1]
        )

    def passing(self, sensitivity: Mapping[str, float]) -> Mask:
        """Return which rows pass the sensitivity of their kind.

        A sensitivity of 1 passes everything that was measured, 0 only what is certain: a finding passes if its
        confidence is at least 1 − sensitivity. Kinds without an entry take 0.5.
        """
        least = np.array([1.0 - sensitivity.get(name, DEFAULT_SENSITIVITY) for name in self.kind_names])
        return self.confidences >= least[self.kinds] if len(least) else np.zeros(0, np.bool_)

    def of_kind(self, name: str) -> Mask:
        """Return which rows are of a kind."""
        if name not in self.kind_names:
            return np.zeros(len(self.findings), np.bool_)
        return self.kinds == self.kind_names.index(name)

    def within(self, start: float, stop: float) -> Integers:
        """Return the rows that reach into a span."""
        first = int(np.searchsorted(self.starts, start - self.longest))
        last = int(np.searchsorted(self.starts, stop))
        return first + np.flatnonzero(self.stops[first:last] > start)
