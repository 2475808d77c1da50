"""Direct current: a wave that does not swing around zero, as a faulty converter or preamplifier leaves it."""

from __future__ import annotations

import numpy as np

from umbrick.core.filters.windows import hann
from umbrick.core.model.robust_spread import robust_spread
from umbrick.core.survey.detector import Block, Format, Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.levels.outline import Outline, levels_of, loud_db, outline
from umbrick.core.units import amplitude_to_db, db_to_amplitude, format_db

_STRETCH_SECONDS = 0.5
_HALF_SURE, _HALF_SURE_SHARE, _LEAST_HALF_SURE = 0.001, 0.01, 5e-5
"""The offset that may be one: at most so much, less in a quiet recording, but more than a step of 16 bits."""

_FEWEST_DEVIATIONS = 5.0
_FEWEST_STRETCHES = 2
_SHORTEST_SECONDS = 0.05
_MOMENT_SECONDS, _RESTING_DB, _FEWEST_MOMENTS, _GONE = 0.02, -30.0, 5, 0.35
"""Where hardly more than a third of an offset is left in moments in which the sound rests by so much, the rest of it is
the lopsided wave of an instrument, and what is left is the offset."""

_MOST_SPREAD, _MOST_IF_LOPSIDED = 0.5, 0.3
"""A converter's offset stays; what changes by half of itself from one half second to the next belongs to the notes."""


class OffsetDetector:
    """Collects the mean of every half second; how far these scatter tells how sure their own mean is."""

    def __init__(self, form: Format) -> None:
        self._format = form
        self._stretch = max(1, round(_STRETCH_SECONDS * form.rate))
        self._weight = _bell(self._stretch)
        self._left = np.zeros((0, form.channels))
        self._means: list[np.ndarray] = [np.zeros((0, form.channels))]
        self._moment = max(2, round(_MOMENT_SECONDS * form.rate))
        self._moments: list[np.ndarray] = [np.zeros((0, 2, form.channels))]
        self._outlines: list[Outline] = []
        self._frames = 0

    def feed(self, block: Block) -> None:
        """Collect the means of a block."""
        self._frames = block.stop
        self._outlines.append(block.shared(outline))
        sound = np.concatenate([self._left, block.own.astype(np.float64)])
        whole = len(sound) // self._stretch * self._stretch
        stretches = sound[:whole].reshape(-1, self._stretch, sound.shape[1])
        self._means.append(np.einsum("nsc,s->nc", stretches, self._weight))
        self._left = sound[whole:]
        own = block.own[: len(block.own) // self._moment * self._moment]
        moments = own.reshape(-1, self._moment, own.shape[1])
        self._moments.append(np.stack([moments.mean(axis=1), moments.std(axis=1)], axis=1))

    def _means_of_little(self) -> list[np.ndarray]:
        """Return the means of parts of a sound that is too short for two stretches, if it is long enough for that."""
        missing = _FEWEST_STRETCHES - sum(len(means) for means in self._means)
        if missing <= 0 or len(self._left) < missing * _SHORTEST_SECONDS * self._format.rate:
            return []
        return [_bell(len(part)) @ part[np.newaxis] for part in np.array_split(self._left, missing)]

    def findings(self) -> list[Finding]:
        """Return one finding for each channel with an offset; it spans the recording."""
        means = np.concatenate([*self._means, *self._means_of_little()])
        if len(means) < _FEWEST_STRETCHES:
            return []
        loud = db_to_amplitude(loud_db(levels_of(self._outlines)))
        half_sure = float(np.clip(_HALF_SURE_SHARE * loud, _LEAST_HALF_SURE, _HALF_SURE))
        findings = []
        for channel in range(self._format.channels):
            offset = float(means[:, channel].mean())
            sure = _sureness(means[:, channel])
            spread = robust_spread(means[:, channel])
            at_rest = self._at_rest(channel)
            if len(at_rest) >= _FEWEST_MOMENTS and abs(float(np.median(at_rest))) < _GONE * abs(offset):
                offset, sure, spread = float(np.median(at_rest)), _sureness(at_rest), robust_spread(at_rest)
            if abs(offset) < 0.2 * half_sure or sure < _FEWEST_DEVIATIONS:
                continue
            doubt = np.log(abs(offset) / half_sure) * 3
            confidence = float(1 / (1 + np.exp(-doubt))) * min(1.0, sure / (2 * _FEWEST_DEVIATIONS))
            if spread > _MOST_SPREAD * abs(offset):
                confidence = min(confidence, _MOST_IF_LOPSIDED)
            level_db = amplitude_to_db(abs(offset))
            findings.append(
                Finding(
                    id="",
                    kind="dc_offset",
                    start=0,
                    stop=self._frames,
                    channels=(channel,),
                    severity=round(min(1.0, abs(offset) / 0.05), 3),
                    confidence=round(confidence, 3),
                    evidence=f"swings around {offset:+.4f} instead of zero ({format_db(level_db)})",
                    detail={"offset": round(offset, 6)},
                )
            )
        return [finding for finding in findings if finding.confidence >= 0.05]

    def _at_rest(self, channel: int) -> np.ndarray:
        """Return the means of the moments in which a channel's sound rests."""
        means, swings = np.concatenate(self._moments)[:, :, channel].T
        loud = float(np.percentile(swings, 95)) if len(swings) else 0.0
        return np.asarray(means[swings <= loud * db_to_amplitude(_RESTING_DB)], np.float64)


def _sureness(means: np.ndarray) -> float:
    """Return of how many standard errors the mean of these means is.

    Some that are far off, as a drum's bass leaves them where it is hit, say little of what the others agree on: their
    median and its spread (median absolute deviation, after F. R. Hampel, 1974) may be surer of the sign.
    """
    mean, median = float(means.mean()), float(np.median(means))
    by_mean = abs(mean) / max(float(means.std()), 1e-9)
    by_median = min(abs(mean), abs(median)) / max(robust_spread(means), 1e-9)
    return max(by_mean, by_median if mean * median > 0 else 0.0) * float(np.sqrt(len(means)))


def _bell(frames: int) -> np.ndarray:
    """Return the weights of a mean that bass, which a plain one over half a second is not rid of, is kept out of."""
    weight = hann(frames + 1)[1:]
    return np.asarray(weight / weight.sum())


KIND = Kind(
    name="dc_offset",
    title="DC offset",
    family=Family.LEVELS,
    summary="a wave that does not swing around zero",
    make=OffsetDetector,
    needs=(outline,),
    of_outcome=True,
)
