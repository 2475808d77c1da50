"""Level curves and settings: what is written, tried, made and told is the same."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.sounds import RATE, chord
from umbrick.core.errors import ParameterError
from umbrick.core.mend.applying import apply_method
from umbrick.core.mend.levelling.level import curve_of, levelled
from umbrick.core.mend.levelling.level_curve import HIGHEST_DB, LOWEST_DB, LevelCurve, Node
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import METHODS
from umbrick.core.sound.source import ArraySource
from umbrick.core.timeline.version import Version

NODES = st.lists(st.tuples(st.integers(0, 4000), st.integers(-240, 160).map(lambda value: value / 4)), max_size=6)
SOUND = np.hstack([chord(0.2), 0.5 * chord(0.2)])
VERSION = Version.of(ArraySource(SOUND.astype(np.float32), RATE, "s"))


@given(NODES)
def test_a_curve_is_read_as_it_was_written(nodes):
    curve = LevelCurve.of(nodes)
    assert LevelCurve.parsed(curve.text) == curve


@given(NODES, st.randoms(use_true_random=False))
def test_the_order_of_nodes_does_not_matter_but_the_last_on_a_frame_counts(nodes, random):
    apart = list(dict(nodes).items())
    curve = LevelCurve.of(apart)
    random.shuffle(apart)
    assert LevelCurve.of(apart) == curve
    assert LevelCurve.of([(7, -3.0), (7, -5.0)]).nodes == (Node(7, -5.0),)


@given(NODES, st.lists(st.integers(0, 6000), min_size=1, max_size=9))
def test_between_nodes_the_gain_stays_between_theirs(nodes, frames):
    curve = LevelCurve.of(nodes)
    gains = curve.gain_db_at(frames)
    if not nodes:
        assert not gains.any()
        return
    levels = [node.gain_db for node in curve.nodes]
    assert ((gains >= min(levels) - 1e-9) & (gains <= max(levels) + 1e-9)).all()
    assert curve.gain_db_at([node.frame for node in curve.nodes]).tolist() == pytest.approx(levels)


@given(st.integers(2, 5000), st.floats(-30, 30), st.integers(0, 5000))
def test_a_step_begins_and_ends_at_nothing_and_never_jumps(frames, gain_db, ramp):
    curve = LevelCurve.step(frames, gain_db, ramp)
    assert curve.gain_db_at([0, frames]).tolist() == [0, 0]
    steps = np.abs(np.diff(curve.gain_db_at(np.arange(frames + 1))))
    assert steps.max() <= abs(gain_db) / max(1, min(ramp, frames // 2)) + 1e-9


@pytest.mark.parametrize("text", ["0", "0:1:2", "a:3", "-5:3", "0:0 480:-3dB", "0:nan", "0;3"])
def test_what_is_no_curve_says_how_one_is_written(text):
    with pytest.raises(ParameterError, match="FRAME:DB"):
        LevelCurve.parsed(text)


@pytest.mark.parametrize("gain_db", [LOWEST_DB - 1, HIGHEST_DB + 1])
def test_a_gain_out_of_range_says_the_range(gain_db):
    with pytest.raises(ParameterError, match="from -60 to 40 dB"):
        LevelCurve.parsed(f"0:0 100:{gain_db:g} 200:0")
    clipped = LevelCurve.of([(0, gain_db)]).nodes[0].gain_db
    assert LOWEST_DB <= clipped <= HIGHEST_DB


@settings(deadline=None, max_examples=25)
@given(st.integers(10, 4000), st.integers(50, 3000), st.floats(-20, 10), st.floats(0.5, 30))
def test_what_is_tried_is_what_is_made(start, length, gain_db, ramp_ms):
    place = Place(start, start + length, (1,))
    parameters = METHODS["level"].checked({"gain_db": gain_db, "ramp_ms": ramp_ms})
    curve = curve_of(parameters, length, RATE)
    tried = levelled(VERSION, place, curve).apply(VERSION)
    made = apply_method(VERSION, METHODS["level"], parameters, [place]).version
    assert np.array_equal(tried.read(0, tried.frames), made.read(0, made.frames))
    assert np.array_equal(tried.read(start, start + 9), tried.read(start - 5, start + 40)[5:14])
    middle = start + length // 2
    expected = SOUND[middle, 1] * 10 ** (curve.gain_db_at(middle - start) / 20)
    assert tried.read(middle, middle + 1)[0, 1] == pytest.approx(expected, abs=1e-6)


@pytest.mark.parametrize(
    ("curve", "place", "says"),
    [
        ("0:0 500:-3 900:0", Place(1000, 1800, (0,)), "goes on beyond its place"),
        ("0:-3 500:-3 800:0", Place(1000, 1800, (0,)), "begins and ends at 0 dB"),
        ("0:0 500:-3", Place(1000, 1800, (0,)), "begins and ends at 0 dB"),
    ],
)
def test_a_curve_that_would_jump_inside_the_recording_is_refused(curve, place, says):
    with pytest.raises(ParameterError, match=says):
        apply_method(VERSION, METHODS["level"], {"curve": curve}, [place])


def test_at_the_recordings_own_ends_a_curve_may_begin_and_end_anywhere():
    whole = Place(0, VERSION.frames, (0,))
    made = apply_method(VERSION, METHODS["level"], {"curve": f"0:-6 {VERSION.frames}:-6"}, [whole]).version
    assert np.allclose(made.read(0, 99)[:, 0], SOUND[:99, 0] * 10 ** (-6 / 20), atol=1e-6)


@pytest.mark.parametrize(
    ("name", "given", "words"),
    [
        ("declip", {}, "as usual"),
        ("declip", {"using": "sparse"}, "using sparse"),
        ("declip", {"rail_dbfs": -3, "knee_db": 4}, "rail −3 dBFS, knee 4 dB"),
        ("level", {"gain_db": -6.5, "ramp_ms": 5}, "gain −6.5 dB, ramp 5 ms"),
        ("splice", {"time": "keep", "crossfade_ms": 2.5}, "time keep, crossfade 2.5 ms"),
    ],
)
def test_settings_are_told_as_far_as_they_are_not_the_usual_ones(name, given, words):
    assert METHODS[name].told(METHODS[name].checked(given)) == words
