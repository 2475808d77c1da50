"""Hum: the mains fundamental and its harmonics, steady through all of a recording."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.survey.detector import Block, Format, Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.levels.low_wave import LowWaves, low_wave, step_for
from umbrick.core.survey.tones.steady_lines import mains_evidence_db, steady_lines
from umbrick.core.units import amplitude_to_db, format_db

_SHORTEST_SECONDS, _WINDOW_SECONDS = 3.0, 10.0
_MOST_WINDOWS = 120
"""Hum that is steady is seen as well in so many windows spread over hours."""

_MAINS_HZ = (50.0, 60.0)
_REACH_HZ = 0.5
_HARMONICS = 8
_HIGHEST_HZ = 504.0

_HALF_SURE_DB, _DOUBT_DB = 15.5, 2.5
_LEAST_LEAD_DB, _FEWEST_LEADING, _MOST_IF_LED = 1.0, 2, 0.3
_FAINTEST_DB, _FAINTEST_SHARE_DB = -76.0, -50.0
"""Hum as quiet as this, or in a quiet recording this far below its loudest part's low tones, is as likely below what
anyone hears as not."""


class Mains(NamedTuple):
    """Hum as measured: its fundamental, the harmonics' levels in dBFS with how far they stand out, and its drift."""

    fundamental_hz: float
    harmonics: tuple[tuple[int, float, float], ...]
    drift_hz: float
    evidence_db: float
    leads: bool
    """Whether two of the harmonics at least are stronger than all else near them: what is played in an even time has
    lines at all multiples of its beat, and by chance one of them leads."""


class HumDetector:
    """Collects the low wave; looks in it for lines that stay as they are at multiples of a mains frequency."""

    def __init__(self, form: Format) -> None:
        self._format = form
        self._step = step_for(form.rate)
        self._wave = LowWaves()
        self._frames = 0
        self._loudest = 1e-6

    def feed(self, block: Block) -> None:
        """Collect a block's low wave."""
        low = block.shared(low_wave)
        self._wave.append(low)
        self._loudest = max(self._loudest, float(low.std()))
        self._frames = block.stop

    def findings(self) -> list[Finding]:
        """Return one finding that spans the recording, or none."""
        mains = measured(self._wave, self._format.rate / self._step)
        if mains is None or not mains.harmonics:
            return []
        confidence = float(1 / (1 + np.exp(-(mains.evidence_db - _HALF_SURE_DB) / _DOUBT_DB)))
        faintest_db = min(_FAINTEST_DB, amplitude_to_db(self._loudest) + _FAINTEST_SHARE_DB)
        confidence *= float(1 / (1 + np.exp(-(max(level for _, level, _ in mains.harmonics) - faintest_db) / 1.5)))
        if not mains.leads:
            confidence = min(confidence, _MOST_IF_LED)
        level_db = float(10 * np.log10(sum(10 ** (level / 10) for _, level, _ in mains.harmonics)))
        lines = ", ".join(f"{mains.fundamental_hz * number:.0f}" for number, *_ in mains.harmonics)
        if confidence < 0.05:
            return []
        drift = f", drifting by {mains.drift_hz:.2f} Hz" if mains.drift_hz >= 0.02 else ""
        return [
            Finding(
                id="",
                kind="hum",
                start=0,
                stop=self._frames,
                channels=tuple(range(self._format.channels)),
                severity=round(float(np.clip((level_db + 75) / 45, 0, 1)), 3),
                confidence=round(confidence, 3),
                evidence=f"{mains.fundamental_hz:.2f} Hz{drift}, lines at {lines} Hz, together {format_db(level_db)}",
                detail={
                    "fundamental_hz": round(mains.fundamental_hz, 3),
                    "drift_hz": round(mains.drift_hz, 3),
                    "harmonics": [
                        {"number": number, "level_dbfs": round(level, 1), "over_db": round(over, 1)}
                        for number, level, over in mains.harmonics
                    ],
                },
            )
        ]


def measured(wave: LowWaves, rate: float) -> Mains | None:
    """Return the hum of a low wave, or None if it is too short.

    Parameters
    ----------
    wave : LowWaves
        At least three seconds, see :mod:`low_wave`.
    rate : float
        Of the low wave, in Hz.

    Notes
    -----
    In windows of ten seconds lines are looked for that stay as they are, at multiples of 50 and of 60 Hz
    (:mod:`steady_lines`); what most windows show, counts.
    """
    if len(wave) < _SHORTEST_SECONDS * rate:
        return None
    length = min(round(_WINDOW_SECONDS * rate), len(wave))
    count = min(-(-len(wave) // length), _MOST_WINDOWS)
    starts = np.linspace(0, len(wave) - length, count).astype(int).tolist()
    windows = [wave[start : start + length] for start in starts]
    return max((_of(windows, rate, mains) for mains in _MAINS_HZ), key=lambda mains: mains.evidence_db)


def _of(windows: list[npt.NDArray[np.float32]], rate: float, mains: float) -> Mains:
    numbers = np.arange(1, _HARMONICS + 1)
    numbers = numbers[numbers * mains < min(_HIGHEST_HZ, 0.4 * rate)]
    seen = [steady_lines(window, rate, mains, _REACH_HZ, numbers.tolist()) for window in windows]
    over = np.median([lines.over_db for lines in seen], axis=0)
    levels = np.median([lines.level_dbfs for lines in seen], axis=0)
    lead = np.median([lines.lead_db for lines in seen], axis=0)
    fundamentals = np.array([lines.fundamental_hz for lines in seen])
    stands_out, evidence = mains_evidence_db(over)
    harmonics = zip(numbers.tolist(), levels.tolist(), over.tolist(), strict=True)
    return Mains(
        float(np.median(fundamentals)),
        tuple(harmonic for harmonic, stands in zip(harmonics, stands_out, strict=True) if stands),
        float(np.percentile(fundamentals, 90) - np.percentile(fundamentals, 10)),
        evidence,
        bool((lead[stands_out] >= _LEAST_LEAD_DB).sum() >= min(_FEWEST_LEADING, stands_out.sum())),
    )


KIND = Kind(
    name="hum",
    title="Hum",
    family=Family.BACKGROUND,
    summary="the mains and its harmonics, steady throughout",
    make=HumDetector,
    needs=(low_wave,),
    of_outcome=True,
)
