"""Hum: the mains fundamental and its harmonics, steady through all of a recording."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.fft import next_fast_len, rfft
from scipy.ndimage import median_filter
from scipy.signal import get_window

from umbrick.core.survey.detector import Block, Format, Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.low_wave import LowWaves, low_wave, step_for
from umbrick.core.units import format_db

_SHORT_SECONDS, _LONG_SECONDS = 1.5, 5.0
_PADDING = 4
_MOST_WINDOWS = 120
"""Hum that is steady is seen as well in so many windows spread over hours."""

_MAINS_HZ = (50.0, 60.0)
_REACH_HZ = 0.5
_GRID_HZ = 0.02
_HARMONICS = 8
_NEAR_TURNS, _FAR_TURNS = 2.6, 10.0
"""What counts as beside a line: at these distances, as multiples of what one window resolves."""

_SHORT_PERCENTILE, _LONG_PERCENTILE = 12, 25
_LONG_WORTH = 0.9
_FAINTEST_DB = -76.0
"""Hum as quiet as this is as likely below what anyone hears as not."""

_LINE_DB = 6.0
_FINE_REACH_HZ = 0.25
_HALF_SURE_DB = 20.5
_HIGHEST_HZ = 520.0


class Mains(NamedTuple):
    """Hum as measured: its fundamental, the harmonics' levels in dBFS with how far they stand out, and its drift."""

    fundamental_hz: float
    harmonics: tuple[tuple[int, float, float], ...]
    drift_hz: float
    evidence_db: float


class HumDetector:
    """Collects the low wave; looks in its long-time spectra for lines at multiples of a mains frequency."""

    def __init__(self, form: Format) -> None:
        self._format = form
        self._step = step_for(form.rate)
        self._wave = LowWaves()
        self._frames = 0

    def feed(self, block: Block) -> None:
        """Collect a block's low wave."""
        self._wave.append(block.shared(low_wave))
        self._frames = block.stop

    def findings(self) -> list[Finding]:
        """Return one finding that spans the recording, or none."""
        mains = measured(self._wave, self._format.rate / self._step)
        if mains is None:
            return []
        confidence = float(1 / (1 + np.exp(-(mains.evidence_db - _HALF_SURE_DB) / 4)))
        confidence *= float(1 / (1 + np.exp(-(max(level for _, level, _ in mains.harmonics) - _FAINTEST_DB) / 1.5)))
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
    In windows of 1.5 s each line's power is that which an eighth of the windows do not reach, as is that of what lies
    beside it (minimum statistics, after R. Martin, 2001): a note that comes and goes is not steady, and hum shows
    through every pause. Where there is none, windows of six seconds that hold a line apart from rumble may see more.
    The fundamental is where the levels of its lines over what lies beside them add up to most
    (harmonic sum, after D. J. Hermes, 1988); windows of six seconds then tell it to a hundredth of a hertz.
    """
    if len(wave) < 2 * _SHORT_SECONDS * rate:
        return None
    long_seconds = min(_LONG_SECONDS, len(wave) / rate)
    short, hz = _spectra(wave, rate, _SHORT_SECONDS)
    steady_db = _percentile_db(short, _SHORT_PERCENTILE)
    best = max((_lines(steady_db, mains, hz, rate, _SHORT_SECONDS) for mains in _MAINS_HZ), key=_evidence)
    long, long_hz = _spectra(wave, rate, long_seconds)
    if best.evidence_db < _HALF_SURE_DB:
        usual_db = _percentile_db(long, _LONG_PERCENTILE)
        others = [_lines(usual_db, mains, long_hz, rate, long_seconds) for mains in _MAINS_HZ]
        other = max(others, key=_evidence)
        best = max(best, other._replace(evidence_db=_LONG_WORTH * other.evidence_db), key=_evidence)
    if not best.numbers:
        return None
    heard = np.array([
        [_refined(row, number * best.fundamental_hz, long_hz) / number for number in best.numbers] for row in long
    ])  # fmt: skip
    weights = np.array(best.numbers) * np.clip(np.array(best.over_db) - _LINE_DB + 1, 0, 24)
    fundamental = _weighted_median(heard.ravel(), np.tile(weights, len(heard)))
    # What is steady of a line is no louder than the quietest it has been heard.
    levels_db = [float(steady_db[round(number * fundamental / hz)]) for number in best.numbers]
    harmonics = tuple(zip(best.numbers, levels_db, best.over_db, strict=True))
    surest = heard[:, int(np.argmax(weights))]
    drift = float(np.percentile(surest, 90) - np.percentile(surest, 10)) if len(surest) > 2 else 0.0
    return Mains(fundamental, harmonics, drift, best.evidence_db)


def _percentile_db(spectra: npt.NDArray[np.float64], percentile: float) -> npt.NDArray[np.float64]:
    return np.asarray(10 * np.log10(np.maximum(np.percentile(spectra, percentile, axis=0), 1e-16)))


class _Lines(NamedTuple):
    fundamental_hz: float
    numbers: tuple[int, ...]
    over_db: tuple[float, ...]
    evidence_db: float


def _evidence(lines: _Lines) -> float:
    return lines.evidence_db


def _spectra(wave: LowWaves, rate: float, seconds: float) -> tuple[npt.NDArray[np.float64], float]:
    """Return spectra of windows, a row each, as powers related to full scale, and the distance of their bins in Hz."""
    length = min(round(seconds * rate), len(wave))
    hop = max(1, length // 4, (len(wave) - length) // _MOST_WINDOWS)
    size = next_fast_len(_PADDING * length, real=True)
    window = get_window("hann", length).astype(np.float32)
    last = int(_HIGHEST_HZ * size / rate) + 2
    rows = []
    for start in range(0, len(wave) - length + 1, hop):
        spectrum = rfft(wave[start : start + length] * window, size)[:last]
        rows.append(np.square(spectrum.real) + np.square(spectrum.imag))
    return np.array(rows, np.float64) * (2 / float(window.sum())) ** 2 / 2, rate / size


def _lines(steady_db: npt.NDArray[np.float64], mains: float, hz: float, rate: float, seconds: float) -> _Lines:
    """Return the lines at multiples of a frequency near that of the mains."""
    numbers = np.arange(1, _HARMONICS + 1)
    near, far = (max(1, round(turns / seconds / hz)) for turns in (_NEAR_TURNS, _FAR_TURNS))
    numbers = numbers[numbers * (mains + _REACH_HZ) + far * hz < min(_HIGHEST_HZ, 0.4 * rate)]
    tried = np.arange(mains - _REACH_HZ, mains + _REACH_HZ, _GRID_HZ)
    at = np.round(np.outer(tried, numbers) / hz).astype(np.int64)
    # The flank of a strong neighbour is no floor: of both sides the higher counts.
    beside = median_filter(steady_db, far - near)
    middle = (near + far) // 2
    floor = np.maximum(beside[np.maximum(at - middle, 0)], beside[np.minimum(at + middle, len(beside) - 1)])
    over = steady_db[at] - floor
    best = int(np.argmax(np.clip(over, 0, 24).sum(axis=1)))
    stands_out = over[best] >= _LINE_DB
    evidence = float(np.clip(over[best][stands_out], 0, 24).sum())
    # One line is a tone, and mains without its first two lines is hardly ever met.
    evidence *= (0.6 if stands_out.sum() == 1 else 1.0) * (1.0 if stands_out[:2].any() else 0.4)
    return _Lines(
        float(tried[best]), tuple(numbers[stands_out].tolist()), tuple(over[best][stands_out].tolist()), evidence
    )


def _refined(spectrum: npt.NDArray[np.float64], frequency: float, hz: float) -> float:
    """Return the frequency of the highest line within a quarter of a hertz, by a parabola through its top in dB."""
    at, reach = round(frequency / hz), max(1, round(_FINE_REACH_HZ / hz))
    top = at - reach + int(np.argmax(spectrum[at - reach : at + reach + 1]))
    left, middle, right = np.log(np.maximum(spectrum[top - 1 : top + 2], 1e-18))
    bend = left - 2 * middle + right
    shift = 0.5 * (left - right) / bend if bend < 0 else 0.0
    return (top + float(np.clip(shift, -0.5, 0.5))) * hz


def _weighted_median(values: npt.NDArray[np.float64], weights: npt.NDArray[np.float64]) -> float:
    order = np.argsort(values)
    sums = np.cumsum(weights[order])
    return float(values[order][np.searchsorted(sums, sums[-1] / 2)])


KIND = Kind(
    name="hum",
    title="Hum",
    family=Family.BACKGROUND,
    summary="the mains and its harmonics, steady throughout",
    make=HumDetector,
    needs=(low_wave,),
)
