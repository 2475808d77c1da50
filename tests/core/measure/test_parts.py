"""The parts of a recording."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.sounds import RATE, sine, voice
from umbrick.core.errors import CancelledError
from umbrick.core.measure.parts import Steps, measure_steps, parts_as_csv, parts_of, sticking_out
from umbrick.core.sound.source import ArraySource

PAUSE = np.full((RATE, 1), 1e-6)


def steps_of(*sounds):
    return measure_steps(ArraySource(np.concatenate(sounds).astype(np.float32), RATE, "s"))


@settings(deadline=None, max_examples=30)
@given(st.lists(st.floats(1e-9, 1.0), min_size=0, max_size=900), st.lists(st.integers(0, 900), max_size=5))
def test_parts_cover_the_recording_without_a_gap(energy, borders):
    frames = len(energy) * 4800 + (17 if energy else 0)
    values = np.array(energy)
    parts = parts_of(Steps(RATE, frames, 4800, values, np.sqrt(values)), [border * 4800 for border in borders])
    assert [part.start for part in parts] == [0, *(part.stop for part in parts[:-1])] if parts else not energy
    if parts:
        assert parts[-1].stop == frames
        assert all(abs(part.proposed_db) <= 12 and part.proposed_db % 0.5 == 0 for part in parts)


def test_loudness_is_that_of_the_standard_and_pauses_do_not_count():
    tone = sine(997.0, 5.0, level=10 ** (-20 / 20))
    first, second = parts_of(steps_of(tone, PAUSE, 0.25 * tone))
    assert first.loudness_lufs == pytest.approx(-23.0, abs=0.2)
    assert second.loudness_lufs == pytest.approx(-35.0, abs=0.2)
    assert first.peak_dbfs == pytest.approx(-20, abs=0.1)


def test_the_part_that_differs_is_brought_to_the_others():
    words = voice(6.0, noise=0.0002)
    parts = parts_of(steps_of(words, PAUSE, 0.3 * words, PAUSE, words, PAUSE, 0.93 * words))
    assert [part.proposed_db for part in parts] == [0, pytest.approx(10.5, abs=0.5), 0, 0]
    assert [part.note for part in parts] == ["", "too quiet", "", ""]


def test_a_border_that_is_asked_for_parts_what_no_pause_parts():
    words = voice(12.0, noise=0.0002)
    at = 6 * RATE
    parts = parts_of(steps_of(words[:at], 0.4 * words[at:]), [at])
    assert len(parts) == 2
    assert abs(parts[0].stop - at) <= RATE // 10
    assert len(parts_of(steps_of(sine(seconds=70.0)))) >= 3, "no part is longer than half a minute"


def test_a_peak_is_a_part_of_its_own_that_comes_down():
    parts = parts_of(steps_of(voice(6.0)))
    peak = sticking_out(parts, RATE, RATE + 4800, 11.2)
    assert (peak.start, peak.stop, peak.proposed_db, peak.note) == (RATE, RATE + 4800, -8.0, "sticks out")
    text = parts_as_csv([*parts, peak], RATE)
    assert text.splitlines()[-1].endswith("-8.0,sticks out")


def test_measuring_can_be_stopped():
    with pytest.raises(CancelledError):
        measure_steps(ArraySource(voice(1.0).astype(np.float32), RATE, "s"), is_cancelled=lambda: True)
    assert parts_of(steps_of(np.zeros((0, 1)))) == []
