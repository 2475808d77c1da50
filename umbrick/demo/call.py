"""A call from the pump house over a poor line: what was lost on the way was held, repeated or left out."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from scipy.signal import butter, sosfilt

from umbrick.demo.faults import Sound, Tape
from umbrick.demo.speaking import spoken

_RATE = 16000
_LINES = (
    "Pump house to third lock. Pump house to third lock. Do you hear me? Over.",
    "The water is at nine feet four, and it is rising by an inch in every quarter of an hour.",
    "The lower gates are holding, but the river is coming round by the meadow.",
    "We have",
    "We have lost the second pump. I say again, the second pump is gone.",
    "Somebody must go down to the weir and raise the boards. All of them.",
    "Old Moor Lane is under water. Nobody can come by the road now.",
    "My brother is on his way to you in the reed boat, with rope and two lamps.",
    "If you see him, ring the bell. Ring it three times, and I will know.",
    "The barometer is still falling. It will be worse before the morning.",
    "I will call again at four, if the line is there at all.",
    "Tell my wife that I am dry. That is nearly true.",
    "Good luck to you all. Pump house, over and out.",
)
_RESTART = 3
_BAND_HZ = (300, 3400)
_STATIC = 0.0025
_WAVERS_HZ, _WAVERS_SECONDS, _WAVERS_SHARE = 30.0, 0.0003, 0.06
_FRAME_SECONDS = 0.02


class _Fault(NamedTuple):
    """A fault of the line: what it is, at which share of which line of the call, and how long."""

    form: str
    line: int
    share: float
    seconds: float


_FAULTS = (
    _Fault("held", 0, 0.45, 0.08),
    _Fault("held", 1, 0.22, 0.11),
    _Fault("dropout", 1, 0.55, 0.04),
    _Fault("held", 1, 0.8, 0.07),
    _Fault("repeated", 2, 0.3, 0.06),
    _Fault("missing", 2, 0.7, 0.06),
    _Fault("held", 4, 0.5, 0.09),
    _Fault("dropout", 5, 0.3, 0.02),
    _Fault("held", 5, 0.6, 0.12),
    _Fault("repeated", 6, 0.4, 0.08),
    _Fault("dropout", 6, 0.75, 0.06),
    _Fault("held", 7, 0.3, 0.06),
    _Fault("held", 8, 0.6, 0.1),
    _Fault("dropout", 9, 0.4, 0.04),
    _Fault("repeated", 10, 0.5, 0.04),
    _Fault("held", 11, 0.4, 0.08),
)


def radio_call() -> Tape:
    """The pump house calls in the flood: held and stretched syllables, dropouts, one missing packet, and a restart."""
    random = np.random.default_rng(1947)
    parts = [np.zeros(round(0.6 * _RATE))]
    spans: list[tuple[int, int]] = []
    at = len(parts[0])
    for number, text in enumerate(_LINES):
        wave = spoken(text, _RATE, "en-gb-scotland", 156, 52)
        wave = wave[: np.flatnonzero(np.abs(wave) > 0.01)[-1] + 1] if number == _RESTART else wave
        gap = 0.09 if number == _RESTART else random.uniform(0.35, 0.7)
        spans.append((at, at + len(wave)))
        parts += [wave, np.zeros(round(gap * _RATE))]
        at += len(wave) + len(parts[-1])
    wave = np.concatenate(parts)
    wave = sosfilt(butter(3, _BAND_HZ, "bandpass", fs=_RATE, output="sos"), wave / np.abs(wave).max())
    wave = 0.5 * np.tanh(1.2 * _unsteady(wave, random))
    wave += _STATIC * sosfilt(butter(1, _BAND_HZ, "bandpass", fs=_RATE, output="sos"), random.standard_normal(at))
    return _sent(wave, spans)


def _unsteady(wave: Sound, random: np.random.Generator) -> Sound:
    """Return a voice whose pitch and strength waver from turn to turn, as no synthetic one's do by themselves."""
    slow = butter(2, _WAVERS_HZ, fs=_RATE, output="sos")
    late, strength = (sosfilt(slow, random.standard_normal(len(wave))) for _ in range(2))
    at = np.arange(len(wave)) + _WAVERS_SECONDS * _RATE * late / late.std()
    return np.interp(at, np.arange(len(wave)), wave) * (1 + _WAVERS_SHARE * strength / strength.std())


def _sent(wave: Sound, spans: list[tuple[int, int]]) -> Tape:
    """Return a wave as it arrives, with what the line did to it."""
    parts: list[Sound] = []
    notes: list[tuple[str, int, int]] = []
    done = arrived = 0
    restart = spans[_RESTART + 1][0]
    for fault in _FAULTS:
        first, last = spans[fault.line]
        at = _voiced_near(wave, first + round(fault.share * (last - first)))
        if done <= restart < at:
            notes.append(
                (
                    "restart",
                    arrived + restart - done,
                    arrived + restart - done + spans[_RESTART][1] - spans[_RESTART][0],
                )
            )
        parts.append(wave[done:at])
        arrived += at - done
        length = round(fault.seconds * _RATE)
        done = at
        if fault.form == "held":
            parts.append(_held(wave, at, length))
        elif fault.form == "repeated":
            parts.append(wave[at - length : at])
        elif fault.form == "dropout":
            parts.append(np.zeros(length))
            done = at + length
        else:
            notes.append(("discontinuity", arrived, arrived + 1))
            done = at + length
            continue
        kind = "dropout" if fault.form == "dropout" else "stutter"
        notes.append((kind, arrived, arrived + length))
        arrived += length
    tape = Tape(np.concatenate([*parts, wave[done:]])[:, np.newaxis], _RATE, 1948)
    for kind, start, stop in [("hiss", 0, len(tape.sound)), *notes]:
        tape.note(kind, start, stop, (0,))
    return tape


def _voiced_near(wave: Sound, at: int) -> int:
    """Return a place within a fifth of a second where the voice sounds most."""
    size = round(_FRAME_SECONDS * _RATE)
    starts = np.arange(at - 10 * size, at + 10 * size, size // 2)
    return int(starts[int(np.argmax([np.square(wave[start - size : start + size]).sum() for start in starts]))])


def _held(wave: Sound, at: int, length: int) -> Sound:
    """Return the last turn of the voice going round and growing weaker."""
    lags = np.arange(round(0.004 * _RATE), round(0.014 * _RATE))
    own = wave[at - round(0.014 * _RATE) : at]
    alike = [own @ wave[at - len(own) - lag : at - lag] for lag in lags]
    turn = int(lags[int(np.argmax(alike))])
    rounds = np.tile(wave[at - turn : at], length // turn + 1)[:length]
    return rounds * np.linspace(1.0, 0.55, length)
