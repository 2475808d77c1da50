"""Whether what comes again sample for sample was meant to: a steady tone, or a note with ends of its own.

A buffer that is played twice begins and ends anywhere in the sound, and holds more than a few tones.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from scipy.fft import rfft

Floats = npt.NDArray[np.float32]

_FEW_LINES, _THEIR_SHARE = 3, 0.9995
_SEVERAL_TIMES, _MOST_TURNS, _WHOLE_TURNS_SHARE = 2.2, 200, 0.97
_ONSET_SECONDS, _BEFORE_SECONDS, _SILENCE_DB = 0.002, 0.01, -24.0
_MOMENT_SECONDS, _SILENT = 0.00025, 0.003


def is_tone(wave: Floats, start: int, stop: int, lag: int, rate: int) -> bool:
    """Whether frames that are those ``lag`` before are one, two or three steady tones, or a note with overtones that
    goes on for several turns, and begins by itself or without a break from one turn to the next."""
    # From one coming to the next the spectrum is exact.
    lines = np.square(np.abs(rfft(wave[start - lag : start].astype(np.float64))))[1:]
    power = float(lines.sum())
    if np.sort(lines)[-_FEW_LINES:].sum() >= _THEIR_SHARE * power:
        return True
    if stop - start < _SEVERAL_TIMES * lag:
        return False
    if _breaks_off(wave, start, lag) and not begins_by_itself(wave, start, lag, rate):
        return False
    turns = range(2, min(_MOST_TURNS, len(lines) // 2))
    return any(float(lines[number - 1 :: number].sum()) >= _WHOLE_TURNS_SHARE * power for number in turns)


def _breaks_off(wave: Floats, start: int, lag: int) -> bool:
    """Whether the wave bends more where one turn goes over into the next than anywhere within it."""
    bends = np.abs(np.diff(wave[start - lag : start + 2], 2))
    return bool(bends[-2:].max() > bends[:-2].max())


def begins_by_itself(wave: Floats, start: int, lag: int, rate: int) -> bool:
    """Whether there is silence before what comes again ``lag`` later, at ``start``; what a line conceals goes on with
    sound from before."""
    stop = max(0, start - lag - round(_ONSET_SECONDS * rate))
    before = wave[max(0, stop - round(_BEFORE_SECONDS * rate)) : stop]
    own = float(np.square(wave[start : start + lag], dtype=np.float64).mean())
    return len(before) > 0 and float(np.square(before, dtype=np.float64).mean()) < own * 10 ** (_SILENCE_DB / 10)


def has_own_ends(wave: Floats, start: int, stop: int, rate: int) -> bool:
    """Whether a stretch of a wave begins and ends in silence."""
    moment = max(2, round(_MOMENT_SECONDS * rate))
    ends = max(float(np.abs(wave[at : at + moment]).max()) for at in (start, stop - moment))
    return ends <= _SILENT * float(np.abs(wave[start:stop]).max())
