"""Where a sound of its own begins, and where damage lies on sound that goes on."""

from __future__ import annotations

import numpy as np
import pytest

from benchmarks.unusual import UNUSUAL
from tests.core.survey.test_kinds import SPEECH, found, surveyed
from tests.sounds import RATE, rng
from umbrick.core.survey.impulses.onset import begins_a_sound
from umbrick.core.survey.impulses.pulses import comes_again

_AT = RATE // 2


def _over(note: np.ndarray) -> np.ndarray:
    """Return a low hum of a sound with another on top from the middle on."""
    t = np.arange(RATE) / RATE
    wave = 0.05 * np.sin(2 * np.pi * 150 * t) + 0.0005 * rng(3).standard_normal(RATE)
    wave[_AT : _AT + len(note)] += note
    return wave.astype(np.float32)


def _note(decay: float, attack: float = 0.0) -> np.ndarray:
    t = np.arange(RATE // 3) / RATE
    rise = np.minimum(1, t / attack) if attack else 1.0
    return 0.3 * rise * np.exp(-decay * t) * np.sin(2 * np.pi * 880 * t)


def test_a_struck_note_begins_where_it_is_struck() -> None:
    assert begins_a_sound(_over(_note(6.0)), _AT, _AT + 20, RATE)


@pytest.mark.parametrize(
    "what",
    [
        0.3 * rng(4).standard_normal(20),  # a tick: the sound goes on as it was
        _note(800.0),  # a smack, which is over in milliseconds
        _note(0.0, attack=0.08),  # a voice that sets in, and rises
    ],
    ids=["tick", "smack", "rising"],
)
def test_nothing_of_its_own_begins_with_damage_or_rises_from_it(what: np.ndarray) -> None:
    assert not begins_a_sound(_over(what), _AT, _AT + 20, RATE)


def test_the_swing_of_a_pick_up_after_a_click_is_no_sound_of_its_own() -> None:
    t = np.arange(RATE // 3) / RATE
    swing = 0.4 * np.exp(-t / 0.05) * np.sin(2 * np.pi * 30 * t)
    swing[:4] += 0.8
    assert not begins_a_sound(_over(swing), _AT, _AT + 4, RATE)


@pytest.mark.parametrize("apart", [0.006, 0.012, 0.02])
def test_a_pulse_comes_again_in_its_shape_and_a_smack_does_not(apart: float) -> None:
    t = np.arange(round(0.005 * RATE)) / RATE
    pulse = 0.2 * np.exp(-400 * t) * np.sin(2 * np.pi * 2600 * t)
    once = (0.002 * rng(8).standard_normal(RATE // 4)).astype(np.float32)
    at, later = RATE // 8, RATE // 8 + round(apart * RATE)
    once[at : at + len(t)] += pulse
    twice = once.copy()
    twice[later : later + len(t)] += 0.5 * pulse
    assert comes_again(twice, at, RATE)
    assert comes_again(twice, later, RATE)
    assert not comes_again(once, at, RATE)
    assert not comes_again(twice, 10, RATE)  # too near to the end to be told


def test_too_near_to_an_end_nothing_is_said() -> None:
    wave = _over(_note(6.0))
    assert not begins_a_sound(wave[_AT - RATE // 100 :], RATE // 100, RATE // 100 + 20, RATE)
    assert not begins_a_sound(wave[: _AT + RATE // 100], _AT, _AT + 20, RATE)


@pytest.mark.parametrize("name", ["electric piano", "music box", "frogs"])
def test_strokes_and_croaks_are_no_damage(name: str) -> None:
    sound, rate, bits = UNUSUAL[name](rng(5), None, None)
    kinds = ("click", "mouth_click", "crackle")
    found_here = surveyed(sound[:, np.newaxis], rate, kinds, bits).sifted({})
    assert len([finding for finding in found_here if finding.kind in kinds]) <= 2


def test_a_tick_that_comes_with_one_stroke_among_others_is_found() -> None:
    wrong = SPEECH.copy()
    ticks = [round(seconds * RATE) for seconds in (1.02, 2.13, 3.31, 4.27)]
    for number, at in enumerate(ticks):
        wrong[at : at + 12, 0] += 0.3 * rng(number).standard_normal(12)
    clicks = found(wrong, "click")
    assert len(clicks) == len(ticks)
    assert all(any(click.start - 48 <= at <= click.stop + 48 for click in clicks) for at in ticks)
