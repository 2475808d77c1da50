"""Sibilance: an S or F far brighter than the others of the same voice."""

from __future__ import annotations

import numpy as np
from scipy.ndimage import uniform_filter1d

from umbrick.core.survey.detector import Block, Format, Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.levels.fine_bands import Floats, fine_bands, hop_frames

_FIRST_HIGH_BAND, _FIRST_LOW_BAND = 4, 1
_FIRST_HIGH_NARROW_BAND, _NARROW_BELOW_RATE = 3, 11_000
"""A telephone lets through just the foot of an S, from 2.5 kHz on."""

_SHORTEST_SECONDS, _BRIDGED_SECONDS = 0.035, 0.01
_LOUDEST_SECONDS = 0.04
"""A consonant is as bright as its brightest part of this length."""

_BRIGHT = 0.6
_FEWEST = 5
_BRIGHTER_PERCENTILE = 85
_DULL_DB, _FEW_DB = -12.0, -4.0
"""No consonant is harsh that is not within so much of the loud passages' level; where there are few, within less."""

_HALF_SURE_DB, _HALF_SURE_NARROW_DB = 6.0, 7.0
_LEAST_DB = 3.0
_GATE_DB = 30.0
_SOUNDING_DB, _MOST_BRIGHT_SHARE = 20.0, 0.5
"""Of what sounds in a voice, most is vowels: rain, castanets and cymbals are bright nearly all the time."""


class SibilanceDetector:
    """Collects the bands; compares each bright consonant with the middle one of them all, against the voice's level."""

    def __init__(self, form: Format) -> None:
        self._format = form
        self._is_narrow = form.rate < _NARROW_BELOW_RATE
        self._hop = hop_frames(form.rate)
        self._bands: list[Floats] = []

    def feed(self, block: Block) -> None:
        """Collect a block's bands."""
        self._bands.append(block.shared(fine_bands))

    def findings(self) -> list[Finding]:
        """Return the consonants that are far brighter than the others."""
        if not self._bands:
            return []
        bands = np.concatenate(self._bands)
        border = _FIRST_HIGH_NARROW_BAND if self._is_narrow else _FIRST_HIGH_BAND
        high, low = bands[:, border:].sum(axis=1), bands[:, _FIRST_LOW_BAND:border].sum(axis=1)
        loud = float(np.percentile(low + high, 90)) if len(low) else 0.0
        sounding = low + high > loud * 10 ** (-_SOUNDING_DB / 10)
        if not sounding.any() or np.mean(high[sounding] > _BRIGHT * low[sounding]) > _MOST_BRIGHT_SHARE:
            return []
        spans = self._bright(high, low, loud)
        if not spans:
            return []
        smooth = uniform_filter1d(high, max(1, round(_LOUDEST_SECONDS * self._format.rate / self._hop)))
        levels_db = np.array([10 * np.log10(smooth[a:b].max()) for a, b in spans])
        loud_db = float(10 * np.log10(loud))
        # Most of a voice's consonants are duller than its brightest, and a dull one made brighter is not harsh.
        own_db = (
            np.percentile(levels_db, _BRIGHTER_PERCENTILE, method="lower")
            if len(levels_db) >= _FEWEST
            else loud_db + _FEW_DB
        )
        usual_db = max(float(own_db), loud_db + _DULL_DB)
        findings = []
        for (start, stop), level_db in zip(spans, levels_db.tolist(), strict=True):
            excess_db = level_db - usual_db
            if excess_db >= _LEAST_DB:
                findings.append(self._finding(start, stop, excess_db))
        return [finding for finding in findings if finding.confidence >= 0.05]

    def _bright(self, high: Floats, low: Floats, loud: float) -> list[tuple[int, int]]:
        """Return the stretches, in hops, where the sound is mostly high."""
        bright = (high > _BRIGHT * low) & (high > loud * 10 ** (-_GATE_DB / 10))
        edges = np.flatnonzero(np.diff(bright, prepend=False, append=False))
        bridged, shortest = (
            seconds * self._format.rate / self._hop for seconds in (_BRIDGED_SECONDS, _SHORTEST_SECONDS)
        )
        spans: list[tuple[int, int]] = []
        for start, stop in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
            if spans and start - spans[-1][1] <= bridged:
                spans[-1] = spans[-1][0], stop
            else:
                spans.append((start, stop))
        return [(start, stop) for start, stop in spans if stop - start >= shortest]

    def _finding(self, start: int, stop: int, excess_db: float) -> Finding:
        # A window, which is two hops long, is bright once half of it is.
        half_hop = self._hop // 2
        half_sure_db = _HALF_SURE_NARROW_DB if self._is_narrow else _HALF_SURE_DB
        return Finding(
            id="",
            kind="sibilance",
            start=start * self._hop + half_hop,
            stop=stop * self._hop - half_hop,
            channels=tuple(range(self._format.channels)),
            severity=round(float(np.clip(excess_db / 20, 0, 1)), 3),
            confidence=round(float(1 / (1 + np.exp(-(excess_db - half_sure_db) / 0.7))), 3),
            evidence=f"{excess_db:.0f} dB brighter than this voice's bright consonants",
            detail={"excess_db": round(excess_db, 2)},
        )


KIND = Kind(
    name="sibilance",
    title="Sibilance",
    family=Family.VOICE,
    summary="consonants far brighter than this voice's own",
    make=SibilanceDetector,
    needs=(fine_bands,),
    of_outcome=True,
)
