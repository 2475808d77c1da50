"""What holds for every treatment, by the registry."""

import itertools
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.course.laying import RATE, heard, noise, opened, step_of, through, with_all
from umbrick.core.course import rendered
from umbrick.core.course.strength import parsed_strength, strength_of, strength_text
from umbrick.core.course.treatment import Treatment
from umbrick.core.errors import ParameterError
from umbrick.core.mend.registry import METHODS

TREATMENTS = [name for name, method in METHODS.items() if isinstance(method.does, Treatment)]
SETTINGS = {
    "filter": [
        {},
        {"shape": "bell", "frequency_hz": 900, "also": "notch:50:0:8 high_shelf:2500:-9 low_cut:30:0:2:48"},
        {"shape": "bell", "frequency_hz": 900, "gain_db": -12, "within_hz": "500-2000"},
    ],
    "dc": [{}, {"drift": "slow", "over_s": 0.5}],
    "dehum": [{"fundamental_hz": 50}, {"fundamental_hz": 60, "using": "notch", "harmonics": 3}],
    "denoise": [
        {},
        {
            "print": "0-3000",
            "reduction_db": 30,
            "channels": "each",
            "weighting": "500:6 2000:-3",
            "attack_ms": 30,
            "release_ms": 60,
            "strength": "3000:0 9000:0 9500:80",
            "within_hz": "300-3500",
        },
    ],
    "dereverb": [{}, {"amount": 1.0, "weighting": "500:6 2000:-3", "within_hz": "200-3000"}],
    "deess": [{"threshold_db": -12}, {"amount_db": 30}],
    "lull": [{}, {"amount_db": 3}],
    "normalize": [{}, {"measure": "loudness", "target": -30}, {"measure": "true_peak"}],
}
CASES = [(name, given_) for name in TREATMENTS for given_ in SETTINGS[name]]
cases = pytest.mark.parametrize(("name", "given_"), CASES, ids=[f"{n}{i}" for i, (n, _) in enumerate(CASES)])


@pytest.fixture(autouse=True)
def _short_tiles(monkeypatch):
    monkeypatch.setattr(rendered, "TILE", 4096)


@cases
@settings(max_examples=10, deadline=None)
@given(cuts=st.lists(st.integers(1, 19_999), max_size=8, unique=True))
def test_in_whatever_blocks_it_is_read_it_is_the_same(name, given_, cuts):
    version = opened(with_all(20_000, 2))
    made = through(version, step_of(version, name, given_))
    whole = heard(made)
    edges = [0, *sorted(cuts), 20_000]
    parts = [made.read(a, b) for a, b in itertools.pairwise(edges)]
    assert np.array_equal(np.concatenate(parts), whole)
    assert np.array_equal(made.read_exact(0, 20_000).astype(np.float32), whole)


@cases
def test_borders_of_tiles_cannot_be_seen(name, given_, monkeypatch):
    version = opened(with_all(20_000, 2))
    step = step_of(version, name, given_)
    made = []
    for size in (1 << 20, 4096, 1000):
        monkeypatch.setattr(rendered, "TILE", size)
        made.append(heard(through(version, step)))
    assert np.abs(made[1] - made[0]).max() < 1e-6
    assert np.abs(made[2] - made[0]).max() < 1e-6
    assert np.abs(made[0] - heard(version)).max() > 1e-3


@cases
def test_an_amount_of_nought_and_a_step_switched_off_are_the_sound_itself(name, given_):
    version = opened(noise(5000))
    step = step_of(version, name, given_ | {"amount": 0})
    assert through(version, step) is version
    full = step_of(version, name, given_ | {"amount": 1.0})
    assert through(version, replace(full, is_on=False)) is version
    half = heard(through(version, step_of(version, name, given_ | {"amount": 0.5})))
    dry, wet = heard(version), heard(through(version, full))
    assert np.abs(half - (dry + wet) / 2).max() < 1e-6


@cases
@pytest.mark.parametrize(
    "sound",
    [
        np.full((6000, 1), 0.25),
        np.sign(noise(6000, 3)),
        np.full((1, 2), 0.5),
        np.repeat(np.eye(2), 3, axis=0) * 0.5,
        noise(300, 12),
    ],
    ids=["a constant", "full scale", "one frame", "six frames", "twelve channels"],
)
def test_any_sound_comes_out_finite_and_twice_alike(name, given_, sound):
    version = opened(sound)
    given_ = given_ | ({"print": f"0-{len(sound)}"} if "print" in given_ else {})
    one, two = (heard(through(version, step_of(version, name, given_))) for _ in range(2))
    assert one.shape == sound.shape
    assert np.isfinite(one).all()
    assert np.array_equal(one, two)


@cases
def test_silence_stays_silence(name, given_):
    version = opened(np.zeros((9000, 2)))
    if name == "normalize":
        with pytest.raises(ParameterError, match="silence"):
            step_of(version, name, given_)
    else:
        assert not heard(through(version, step_of(version, name, given_))).any()


@cases
@settings(max_examples=15, deadline=None)
@given(
    start=st.integers(0, 11_999),
    length=st.integers(1, 12_000),
    ramp=st.sampled_from([0, 5, 20, 2000]),
    channels=st.sampled_from([(0,), (1,), (0, 1)]),
)
def test_outside_of_its_spans_and_channels_nothing_changes(name, given_, start, length, ramp, channels):
    sound = noise(12_000, 2) + 0.05
    version = opened(sound)
    stop = min(12_000, start + length)
    step = step_of(version, name, given_ | {"ramp_ms": ramp}, [(start, stop)], channels)
    made = through(version, step)
    exact, before = made.read_exact(0, 12_000), version.read_exact(0, 12_000)
    touched = np.zeros((12_000, 2), bool)
    touched[start:stop, list(channels)] = True
    assert np.array_equal(exact[~touched], before[~touched])
    # A ramp of half the span or less: its middle is all of the step, as over the whole recording it would be.
    if stop - start > 2 * ramp * RATE / 1000 + 2 and name == "filter":
        middle = (start + stop) // 2
        everywhere = heard(through(version, step_of(version, name, given_)))
        assert np.abs(exact[middle] - np.where(touched[middle], everywhere[middle], before[middle])).max() < 1e-6


@cases
def test_it_comes_and_goes_without_an_edge(name, given_):
    version = opened(np.sin(np.arange(16_000) / 40)[:, np.newaxis] * 0.2 + 0.2)
    step = step_of(version, name, given_, [(4000, 12_000)])
    made, before = heard(through(version, step)).astype(float), heard(version)
    difference = made - before
    jump = np.abs(np.diff(difference, axis=0)).max()
    steepest_ramp = np.abs(difference).max() * np.pi / (2 * 0.02 * RATE)
    assert jump < 4 * steepest_ramp + np.abs(np.diff(before, axis=0)).max() / 2


def test_every_treatment_is_in_these_tests():
    assert set(SETTINGS) == set(TREATMENTS)


@cases
def test_strength_follows_its_line_and_spares_what_it_leaves_out(name, given_):
    version = opened(with_all(20_000, 2))
    full = heard(through(version, step_of(version, name, given_ | {"strength": ""})))
    line = "2000:100 6000:0 12000:0 14000:50"
    made = heard(through(version, step_of(version, name, given_ | {"strength": line})))
    dry = heard(version)
    assert np.array_equal(made[6000:12_000], dry[6000:12_000])
    assert np.array_equal(made[:2000], full[:2000])
    assert np.abs(made[14_000:] - (dry + full)[14_000:] / 2).max() < 1e-6
    between = np.abs(made - dry)[2000:6000]
    assert between.max() <= np.abs(full - dry)[2000:6000].max() + 1e-6


@given(nodes=st.dictionaries(st.integers(0, 10**9), st.integers(0, 10_000), max_size=20))
def test_a_line_of_strengths_is_read_as_it_was_written(nodes):
    line = strength_of((frame, share / 10_000) for frame, share in nodes.items())
    read = parsed_strength(strength_text(line))
    assert [frame for frame, _ in read] == [frame for frame, _ in line]
    assert [share for _, share in read] == pytest.approx([share for _, share in line])


@pytest.mark.parametrize("text", ["100", "0:101", "a:b", "0:-1", "-4:50"])
def test_what_is_no_line_of_strengths_is_refused(text):
    with pytest.raises(ParameterError, match="no line of strengths"):
        parsed_strength(text)
