"""One event, one finding: where two detectors see the same damage, the one that explains more keeps it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.survey.finding import Finding


class _Rule(NamedTuple):
    """Findings of ``kinds`` that come within ``slack_ms`` of one of ``explained_by`` are part of that event; with
    ``edges_only``, of where it begins or ends; if ``whole``, only those that lie in it from end to end; only those up
    to ``longest_ms`` long; with ``marked``, only those whose detail says so; with ``explained_if``, only by those whose
    detail says so."""

    kinds: tuple[str, ...]
    explained_by: tuple[str, ...]
    slack_ms: float
    edges_only: bool = False
    whole: bool = False
    longest_ms: float = np.inf
    marked: str = ""
    explained_if: str = ""


_RULES = (
    _Rule(("click", "mouth_click", "discontinuity"), ("slip",), 0.5),
    _Rule(("slip",), ("stutter", "dropout"), 2.0),
    _Rule(("click", "mouth_click", "discontinuity", "crackle"), ("clipping",), 0.5),
    _Rule(("click", "mouth_click", "discontinuity"), ("dropout",), 2.0),
    _Rule(("click", "mouth_click", "discontinuity"), ("stutter",), 3.0, True),
    _Rule(("click", "mouth_click", "discontinuity"), ("crackle",), 2.0),
    _Rule(("dropout",), ("stutter", "crackle"), 1.0, whole=True),
    # A cycle that is held says more of what a line made up.
    _Rule(("dropout",), ("stutter",), 0.0, marked="concealed"),
    _Rule(("plosive", "thump"), ("stutter",), 20.0),
    # A big click is the highest there is nearby, and sets a slow swing going.
    _Rule(("plosive", "thump"), ("click", "dropout"), 0.0),
    _Rule(("plosive",), ("thump",), 0.0),
    _Rule(("thump",), ("plosive",), 0.0),
    _Rule(("peak",), ("click",), 0.0, longest_ms=50.0),
    # Pieces that changed places break off at their ends and between them, however that looks.
    _Rule(
        ("click", "mouth_click", "discontinuity"),
        ("discontinuity",),
        1.0,
        longest_ms=10.0,
        explained_if="swapped_frames",
    ),
    _Rule(("discontinuity", "mouth_click"), ("click",), 1.0, longest_ms=30.0),
    _Rule(("sibilance",), ("crackle",), 0.0),
)
_CLEARLY = 0.15
"""Something far surer than what would explain it is kept all the same, unless that is a rest: it has edges too."""


def one_event_each(found: Mapping[str, Sequence[Finding]], rate: int) -> dict[str, list[Finding]]:
    """Return findings by kind, each in order of time, without those that others explain."""
    kept = {kind: list(findings) for kind, findings in found.items()}
    for rule in _RULES:
        explaining = [
            finding
            for kind in rule.explained_by
            for finding in kept.get(kind, ())
            if not rule.explained_if or finding.detail.get(rule.explained_if)
        ]
        if not explaining:
            continue
        spans = _Spans(explaining, rate, rule)
        for kind in rule.kinds:
            if kept.get(kind):
                kept[kind] = [finding for finding in kept[kind] if not spans.explain(finding)]
    return kept


class _Spans:
    def __init__(self, findings: list[Finding], rate: int, rule: _Rule) -> None:
        self._whole, self._marked = rule.whole, rule.marked
        self._most_frames = rule.longest_ms * rate / 1000
        slack = round(rule.slack_ms * rate / 1000)
        borders = [
            (start - slack, stop + slack, finding)
            for finding in findings
            for start, stop in (
                ((finding.start, finding.start + 1), (finding.stop - 1, finding.stop))
                if rule.edges_only
                else ((finding.start, finding.stop),)
            )
        ]
        borders.sort(key=lambda border: border[0])
        self._findings = [border[2] for border in borders]
        self._starts: npt.NDArray[np.int64] = np.array([border[0] for border in borders])
        self._stops: npt.NDArray[np.int64] = np.array([border[1] for border in borders])
        self._longest = int((self._stops - self._starts).max())

    def explain(self, finding: Finding) -> bool:
        if finding.stop - finding.start > self._most_frames or (self._marked and not finding.detail.get(self._marked)):
            return False
        first = int(np.searchsorted(self._starts, finding.start - self._longest))
        last = int(np.searchsorted(self._starts, finding.stop))
        return any(
            self._findings[index] is not finding
            and self._stops[index] > finding.start
            and (not self._whole or (self._starts[index] <= finding.start and finding.stop <= self._stops[index]))
            and _explains(self._findings[index], finding)
            and not set(finding.channels).isdisjoint(self._findings[index].channels)
            for index in range(first, last)
        )


def _explains(one: Finding, other: Finding) -> bool:
    return one.confidence >= other.confidence - _CLEARLY or bool(one.detail.get("rest"))
