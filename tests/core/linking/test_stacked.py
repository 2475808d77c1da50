"""What is made of all lanes at once: equal lengths, equal maps, and each lane its own sound."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.linking.test_alignment import event
from tests.sounds import RATE, rng
from umbrick.core.errors import ParameterError
from umbrick.core.linking.deviation import rank
from umbrick.core.linking.filling import filled_from_lanes
from umbrick.core.linking.stacked import Beside, stacked
from umbrick.core.mend.applying import apply_method
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import method_named
from umbrick.core.sound.source import ArraySource
from umbrick.core.timeline.positions import map_positions
from umbrick.core.timeline.version import Version

SHIFTS = (0, 700, -300)


def version(sound, key):
    return Version.of(ArraySource(np.asarray(sound, np.float32), RATE, key))


@pytest.fixture(scope="module")
def lanes():
    """Three microphones: the second starts 700 frames earlier, the third 300 later; the first has two channels."""
    whole = event(3.0)
    versions = []
    for number, shift in enumerate(SHIFTS):
        heard = np.roll(whole, 5 * number)[1000 - shift : 1000 - shift + 2 * RATE]
        heard = heard * (1 - 0.2 * number) + 1e-4 * rng(number).standard_normal(len(heard))
        versions.append(version(np.stack([heard, 0.5 * heard], axis=1) if not number else heard[:, None], str(number)))
    return versions


def stack_of(lanes):
    return stacked(lanes[0], [Beside(lane, shift) for lane, shift in zip(lanes[1:], SHIFTS[1:], strict=True)])


def test_a_stack_has_what_all_lanes_have(lanes):
    stack = stack_of(lanes)
    assert (stack.channels, stack.start, stack.frames) == (4, 300, 2 * RATE - 300 - 700)
    sound = stack.read(1000, 1010)
    assert np.array_equal(sound[:, :2], lanes[0].read(1300, 1310))
    assert np.array_equal(sound[:, 2:3], lanes[1].read(2000, 2010))
    assert np.array_equal(sound[:, 3:], lanes[2].read(1000, 1010))


@settings(max_examples=5, deadline=None)
@given(
    st.lists(
        st.tuples(st.sampled_from(["close", "payback", "keep"]), st.integers(4000, 80000), st.integers(200, 4000)),
        min_size=1,
        max_size=3,
    )
)
def test_lanes_keep_equal_lengths_and_maps(lanes, cuts):
    held = list(lanes)
    for time, start, length in cuts:
        stack = stack_of(held)
        base = Version.of(stack)
        place = Place(start, start + length, tuple(range(stack.channels)))
        try:
            mended = apply_method(base, method_named("splice"), {"time": time}, [place])
        except ParameterError:
            continue  # no pause to pay back in
        done = stack.unstacked(mended)
        shifts = {one.change.time_shift for one in done}
        assert len(shifts) == 1
        assert {one.change.time_shift for one in done} == {mended.change.time_shift}
        whole = Version.of(stack)
        at = np.linspace(0, stack.frames, 50).astype(int)
        expected = map_positions(whole, mended.version, at)
        for lane, one in zip(stack.lanes, done, strict=True):
            offset = stack.start + lane.shift
            mapped = map_positions(lane.version, one.version, at + offset)
            inside = (expected > 0) & (expected < mended.version.frames)
            assert np.array_equal(mapped[inside] - offset, expected[inside])
            read = mended.version.read(0, mended.version.frames)
            number = stack.lanes.index(lane)
            own = one.version.read(offset, offset + mended.version.frames)
            assert np.array_equal(own, read[:, stack.channels_of(number)])
        held = [one.version for one in done]
    assert len({lane.frames for lane in held}) == 1


def test_the_lane_with_the_crack_is_ranked_first(lanes):
    for faulty in range(3):
        sounds = [lane.read(0, lane.frames).copy() for lane in lanes]
        at = RATE + SHIFTS[faulty]
        sounds[faulty][at : at + 60] += 0.2 * rng(9).standard_normal((60, 1))
        stack = stack_of([version(sound, f"c{n}") for n, sound in enumerate(sounds)])
        ranking = rank(stack, RATE - stack.start - 50, RATE - stack.start + 150)
        assert ranking.lanes[0].lane == faulty
        assert ranking.is_clear


@pytest.mark.parametrize("seconds", [0.004, 0.02, 0.1, 0.32])
def test_a_gap_is_filled_from_the_others_better_than_alone(lanes, seconds):
    start, stop = RATE, RATE + round(seconds * RATE)
    sound = lanes[0].read(0, lanes[0].frames).copy()
    truth = sound[start:stop].copy()
    sound[start:stop] = 0
    holed = version(sound, "holed")
    stack = stack_of([holed, *lanes[1:]])
    filled = filled_from_lanes(stack, start, stop, (0, 1))
    error = float(np.mean((filled.version.read(start, stop) - truth) ** 2))
    assert 10 * np.log10(np.mean(truth**2) / error) > 20
    outside = np.ones(len(sound), bool)
    outside[start:stop] = False
    assert np.array_equal(filled.version.read(0, len(sound))[outside], sound[outside])
    if seconds <= 0.3:
        alone = apply_method(holed, method_named("bridge"), {}, [Place(start, stop, (0, 1))]).version.read(start, stop)
        assert np.mean((alone - truth) ** 2) > 4 * error


def test_lanes_that_sound_otherwise_are_not_relied_on(lanes):
    other = version(rng(5).standard_normal((2 * RATE, 1)) * 0.1, "noise")
    stack = stacked(lanes[0], [Beside(other, 0)])
    with pytest.raises(ParameterError, match="too different"):
        filled_from_lanes(stack, RATE, RATE + 500, (0,))


def test_lanes_without_a_common_moment_are_told(lanes):
    with pytest.raises(ParameterError, match="no moment in common"):
        stacked(lanes[0], [Beside(lanes[1], 10 * RATE)])
