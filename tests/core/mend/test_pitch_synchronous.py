"""Cycles of a voice: they glide over a gap, say nothing of what has no pitch, and never look into the gap."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from umbrick.core.mend.filling import bridge
from umbrick.core.mend.filling.pitch_synchronous import continued, tried
from umbrick.core.mend.method import Excerpt

_RATE = 16000
_START, _STOP = 16000, 16800


def _gliding_voice(low_hz: float = 110.0, high_hz: float = 150.0) -> np.ndarray:
    """Return two seconds of harmonics under two resonances, gliding from one pitch to another."""
    turns = np.cumsum(np.geomspace(low_hz, high_hz, 2 * _RATE)) / _RATE
    wave = np.zeros(2 * _RATE)
    for harmonic in range(1, 26):
        hz = harmonic * (low_hz + high_hz) / 2
        level = 1 / (1 + ((hz - 600) / 150) ** 2) + 0.5 / (1 + ((hz - 1400) / 250) ** 2)
        wave += level * np.cos(2 * np.pi * harmonic * turns)
    return 0.3 * wave / np.abs(wave).max()


def _ratio_db(truth: np.ndarray, made: np.ndarray) -> float:
    return float(10 * np.log10(np.sum(truth**2) / np.sum((truth - made) ** 2)))


def _bridged(wave: np.ndarray, using: str) -> np.ndarray:
    damage = np.zeros((len(wave), 1), np.bool_)
    damage[_START:_STOP] = True
    holed = wave.astype(np.float32)[:, np.newaxis].copy()
    holed[damage] = 0
    return bridge.rebuild(Excerpt(holed, _RATE, damage, damage), {"using": using})[_START:_STOP, 0]


def test_cycles_go_over_into_those_after_a_gap_in_phase() -> None:
    wave = _gliding_voice()
    other = continued(wave, _START, _STOP, _RATE)
    assert other is not None
    assert other.shape == wave.shape
    assert _ratio_db(wave[_START:_STOP], other[_START:_STOP]) > 8


def test_a_glide_is_bridged_far_better_than_by_prediction() -> None:
    wave = _gliding_voice()
    truth = wave[_START:_STOP]
    assert _ratio_db(truth, _bridged(wave, "auto")) > _ratio_db(truth, _bridged(wave, "prediction")) + 3


@given(st.floats(-1, 1))
def test_what_is_in_the_gap_is_not_looked_at(value: float) -> None:
    wave = _gliding_voice()
    changed = wave.copy()
    changed[_START:_STOP] = value
    one, other = (continued(sound, _START, _STOP, _RATE) for sound in (wave, changed))
    assert one is not None
    np.testing.assert_array_equal(one, other)


@pytest.mark.parametrize("name", ["noise", "silence", "short"])
def test_nothing_is_said_where_no_pitch_is_heard(name: str) -> None:
    sounds = {
        "noise": np.random.default_rng(1).standard_normal(2 * _RATE),
        "silence": np.zeros(2 * _RATE),
        "short": _gliding_voice()[_START - 200 : _STOP + 200],
    }
    start = 200 if name == "short" else _START
    assert continued(sounds[name], start, start + _STOP - _START, _RATE) is None


def test_cycles_are_believed_in_a_voice_and_not_in_a_steady_chord() -> None:
    t = np.arange(2 * _RATE) / _RATE
    chord = sum(np.sin(2 * np.pi * hz * t + hz) for hz in (220, 277.2, 329.6, 415.3)) / 8
    voice = tried(_gliding_voice(), _START, _STOP, 300, 1e-6, _RATE)
    assert voice.trust > 0.5
    assert len(voice.errors) == 2
    assert tried(chord, _START, _STOP, 300, 1e-6, _RATE).trust == 0
