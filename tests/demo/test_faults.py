import numpy as np
import pytest

from tests.sounds import RATE, rng, voice
from umbrick.demo import faults
from umbrick.demo.faults import Tape


@pytest.fixture
def tape():
    return Tape(voice(2.0), RATE, 1)


def test_every_planted_fault_is_written_down_where_it_is(tape):
    before = tape.sound.copy()
    tape.add("plosive", 5000, faults.pop(RATE, 0.3), crossover_hz=120)
    changed = np.flatnonzero((tape.sound != before).any(axis=1))
    (planted,) = tape.planted
    assert planted["kind"] == "plosive"
    assert planted["crossover_hz"] == 120
    assert planted["start"] <= changed.min() <= changed.max() < planted["end"]


def test_a_fault_at_the_end_is_cut_to_the_sound(tape):
    tape.add("click", len(tape.sound) - 10, np.ones(100))
    assert tape.planted[0]["end"] == len(tape.sound)


def test_clipping_is_written_down_run_by_run(tape):
    tape.sound *= 3
    driven = tape.sound.copy()
    tape.clip(-0.1, (0,))
    mask = np.zeros(len(driven), bool)
    for fault in tape.planted:
        mask[fault["start"] : fault["end"]] = True
    assert np.array_equal(mask, np.abs(driven[:, 0]) > 10 ** (-0.1 / 20))


def test_a_raised_stretch_has_ramps(tape):
    before = tape.sound.copy()
    tape.raise_level(30_000, 60_000, 6.0)
    gain = tape.sound[:, 0] / np.where(before[:, 0] == 0, 1, before[:, 0])
    assert gain[45_000] == pytest.approx(10 ** (6 / 20), rel=1e-3)
    assert gain[10_000] == pytest.approx(1.0)
    assert np.abs(np.diff(gain[before[:, 0] != 0])).max() < 0.01


def test_background_sounds_have_the_level_asked_for():
    assert np.abs(faults.hum(RATE, RATE, 0.01)).max() < 0.05
    assert faults.hiss(RATE, RATE, 0.01, rng()).std() == pytest.approx(0.005, rel=0.5)
    assert 0 < np.abs(faults.kettle(RATE, RATE, 0.1)).max() < 0.13
    assert len(faults.crackling(1000, RATE, 0.1, rng())) == 1000
    assert np.isfinite(faults.water(5000, RATE, 0.01, rng())).all()
    assert np.abs(faults.mouth_click(RATE, 0.1, rng())).max() <= 0.1
