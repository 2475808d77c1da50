"""Linked recordings: what is done in one lane and what that does to the others."""

import tempfile
from contextlib import suppress
from pathlib import Path

import numpy as np
import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, rule

from tests.core.linking.test_alignment import event
from tests.sounds import RATE, rng, write
from umbrick.casebook.casebook import Casebook
from umbrick.casebook.joint import commit_together, step_together
from umbrick.core.errors import ParameterError, UmbrickError
from umbrick.core.linking.clock import Clock
from umbrick.core.mend.applying import apply_method
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import method_named
from umbrick.core.mend.remedies import Remedy
from umbrick.core.timeline.lifting import lift_off
from umbrick.work.linked import sets_of, write_links
from umbrick.work.loading import load_file
from umbrick.work.work import Work

OFFSETS = (0, 960, -480)


class Bench:
    """Three linked microphones in a casebook."""

    def __init__(self, folder, seconds=3.0):
        whole = event(seconds + 1)
        whole[2 * RATE : round(2.5 * RATE)] *= 1e-3  # a pause
        self.casebook = Casebook.create(folder / "set.casebook")
        self.works = []
        for number, offset in enumerate(OFFSETS):
            start = RATE // 2 - offset
            sound = whole[start : start + round(seconds * RATE)] + 1e-4 * rng(number).standard_normal(
                round(seconds * RATE)
            )
            loaded = load_file(write(folder / f"mic{number}.wav", sound[:, None]), self.casebook)
            self.works.append(Work(loaded.recording, loaded.pyramid, loaded.shelf, loaded.history))
        write_links(self.works, [Clock(RATE, float(offset)) for offset in OFFSETS], 1)
        (self.linked,) = sets_of(self.works, [])

    def splice(self, work, start, stop):
        remedy = Remedy("Splice", "", method_named("splice"), {"search_ms": 2.0}, Place(start, stop, (0,)))
        joint = self.linked.made_in_all(work, remedy)
        return commit_together(self.linked.parts_of(joint, "splice"))

    def close(self):
        self.casebook.close()
        for work in self.works:
            work.recording.close()


@pytest.fixture(autouse=True)
def own_home(monkeypatch, tmp_path):
    monkeypatch.setenv("UMBRICK_HOME", str(tmp_path / "home"))


@pytest.fixture
def bench(tmp_path):
    held = Bench(tmp_path)
    yield held
    held.close()


def mend_in(work, start, stop, method="bridge"):
    mended = apply_method(work.version, method_named(method), {}, [Place(start, stop, (0,))])
    return work.shelf.commit(work.history, mended.edit(method), mended.version)


def test_places_lie_where_the_clocks_say(bench):
    first, second, third = bench.works
    lanes = bench.linked.lanes
    assert [lane.work.name for lane in lanes] == ["mic0", "mic1", "mic2"]
    assert bench.linked.place_in(lanes[1], first, 1000) == 1960
    assert bench.linked.place_in(lanes[0], third, 1000) == 1480
    assert np.allclose(first.version.read(20000, 20100), second.version.read(20960, 21060), atol=2e-3)


def test_a_cut_is_made_in_all_lanes_and_they_stay_together(bench):
    bench.splice(bench.works[1], 40000, 46000)
    assert len({work.frames for work in bench.works}) == 1
    first, second, third = bench.works
    for frame in (1000, 30000, 60000, 100000):
        here, there = (bench.linked.place_in(lane, first, frame) for lane in bench.linked.lanes[1:])
        assert (here, there) == (frame + 960, frame - 480)
    assert np.allclose(first.version.read(90000, 90100), second.version.read(90960, 91060), atol=2e-3)
    assert np.allclose(first.version.read(90000, 90100), third.version.read(89520, 89620), atol=2e-3)


def test_lifting_a_cut_off_lifts_it_off_everywhere(bench):
    made = bench.splice(bench.works[0], 40000, 46000)
    bench.splice(bench.works[0], 80000, 83000)
    work = bench.works[0]
    edit = lift_off(work.history, [made[0].made[0].id])
    commit_together(bench.linked.joint_parts(work, edit))
    assert len({one.history.timing_debt for one in bench.works}) == 1
    assert [len(one.history.mends) for one in bench.works] == [1, 1, 1]


def in_step(bench, lane, frame):
    """Whether a lane has at a place of the first what that one has."""
    first, other = bench.works[0], bench.works[lane]
    there = bench.linked.place_in(bench.linked.lanes[lane], first, frame)
    return np.allclose(first.version.read(frame, frame + 400), other.version.read(there, there + 400), atol=2e-3)


@pytest.mark.parametrize(("start", "stop", "number"), [(200, 3000, 2), (142000, 143500, 1)])
def test_from_a_lane_that_begins_or_ends_within_a_cut_its_part_goes(bench, start, stop, number):
    whole = [work.frames for work in bench.works]
    made = bench.splice(bench.works[0], start, stop)
    gone = [before - work.frames for before, work in zip(whole, bench.works, strict=True)]
    cut = made[0].made[0]
    own = [min(max(0, at + OFFSETS[number]), whole[number]) for at in (cut.start, cut.stop)]
    assert abs(gone[number] - (own[1] - own[0])) < 0.002 * RATE
    assert gone[number] < -cut.time_shift
    assert {gone[other] for other in range(3) if other != number} == {-cut.time_shift}
    for frame in (10_000, 70_000, 130_000):
        assert in_step(bench, 1, frame)
        assert in_step(bench, 2, frame)
    pairs = [(work.shelf, work.history) for work in bench.works]
    step_together(pairs, -1)
    assert [work.frames for work in bench.works] == whole
    step_together(pairs, 1)
    assert [before - work.frames for before, work in zip(whole, bench.works, strict=True)] == gone
    lifted = lift_off(bench.works[0].history, [cut.id])
    commit_together(bench.linked.joint_parts(bench.works[0], lifted))
    assert [work.frames for work in bench.works] == whole


def test_a_lane_begins_or_ends_within_nothing_but_a_cut(bench):
    remedy = Remedy("Splice", "", method_named("splice"), {"time": "payback"}, Place(200, 3000, (0,)))
    with pytest.raises(ParameterError, match="mic2 begins or ends within this place"):
        bench.linked.made_in_all(bench.works[0], remedy)


def test_a_lane_that_begins_later_keeps_its_time_and_stays_in_step(tmp_path):
    whole = event(6.0)
    casebook = Casebook.create(tmp_path / "set.casebook")
    works, begins = [], (0, 480, 3 * RATE)
    for number, begin in enumerate(begins):
        sound = whole[begin : begin + 5 * RATE] if number < 2 else whole[begin:]
        loaded = load_file(write(tmp_path / f"mic{number}.wav", sound[:, None]), casebook)
        works.append(Work(loaded.recording, loaded.pyramid, loaded.shelf, loaded.history))
    write_links(works, [Clock(RATE, -float(begin)) for begin in begins], 1)
    (linked,) = sets_of(works, [])
    first, second, late = works
    lane = linked.lane_of(late)
    remedy = Remedy("Splice", "", method_named("splice"), {"search_ms": 2.0}, Place(RATE, RATE + 4000, (0,)))
    joint = linked.made_in_all(first, remedy)
    assert [one.work for one in joint.lanes] == [first, second]
    commit_together(linked.parts_of(joint, "splice"))
    cut = 5 * RATE - first.frames
    assert first.history.timing_debt == second.history.timing_debt == -cut
    assert not late.history.edits
    for frame in (0, RATE // 2, 2 * RATE, 3 * RATE - cut, 4 * RATE):
        assert linked.place_in(lane, first, frame) == frame - (3 * RATE - cut)
        if 0 <= linked.place_in(lane, first, frame) < late.frames:
            assert linked.place_in(linked.lane_of(first), late, linked.place_in(lane, first, frame)) == frame
    at = 4 * RATE
    there = linked.place_in(lane, first, at)
    assert np.array_equal(first.version.read(at, at + 500), late.version.read(there, there + 500))
    lifted = lift_off(first.history, {first.history.ledger[0].mend.id: first.history.ledger[0]})
    commit_together(linked.joint_parts(first, lifted))
    assert first.frames == second.frames == 5 * RATE
    assert linked.place_in(lane, first, at) == at - 3 * RATE
    casebook.close()
    for work in works:
        work.recording.close()


def test_a_mend_is_carried_to_the_ticked_lanes_as_one_step(bench):
    first, second, third = bench.works
    edit = mend_in(first, 50000, 50400)
    bench.linked.lanes[2].is_ticked = False
    commit_together(bench.linked.carried_parts(first, edit))
    (carried,) = second.history.mends
    assert (carried.start, carried.stop, carried.method) == (50960, 51360, "bridge")
    assert not third.history.mends
    step_together([(work.shelf, work.history) for work in bench.works], -1)
    assert not second.history.mends
    assert first.history.mends


def test_nothing_to_carry_is_told(bench):
    bench.splice(bench.works[0], 40000, 46000)
    with pytest.raises(ParameterError, match="no mend to carry"):
        bench.linked.carried_parts(bench.works[0], bench.works[0].history.latest)
    edit = mend_in(bench.works[0], 20000, 20100)
    for lane in bench.linked.lanes:
        lane.is_ticked = False
    with pytest.raises(ParameterError, match="No other lane is ticked"):
        bench.linked.carried_parts(bench.works[0], edit)


def test_links_are_in_the_casebook(bench):
    bench.linked.lanes[1].is_ticked = False
    (again,) = sets_of(bench.works, [bench.linked])
    assert [lane.clock.offset_frames for lane in again.lanes] == list(OFFSETS)
    assert not again.lanes[1].is_ticked
    for work in bench.works[1:]:
        work.shelf.write_link(None)
    assert sets_of(bench.works, []) == []


class Lanes(RuleBasedStateMachine):
    """Whatever is done in whichever lane: lengths stay equal, and so do the maps of positions."""

    folder = None

    def __init__(self):
        super().__init__()
        self.held = tempfile.TemporaryDirectory()
        self.bench = Bench(Path(self.held.name), 1.5)
        self.pairs = [(work.shelf, work.history) for work in self.bench.works]

    @rule(lane=st.integers(0, 2), start=st.integers(1500, 50000), length=st.integers(100, 3000))
    def cut(self, lane, start, length):
        work = self.bench.works[lane]
        with suppress(UmbrickError, ValueError):
            self.bench.splice(work, start, min(start + length, work.frames - 2000))

    @rule(lane=st.integers(0, 2), start=st.integers(1500, 50000))
    def mend(self, lane, start):
        work = self.bench.works[lane]
        if start + 50 < work.frames:
            mend_in(work, start, start + 50)

    @rule()
    def undo(self):
        step_together(self.pairs, -1)

    @rule()
    def redo(self):
        with suppress(UmbrickError):
            step_together(self.pairs, 1)

    @rule(holds=st.booleans())
    def hold(self, holds):
        for shelf, history in self.pairs:
            shelf.write_holds_length(history, holds)
        self.length = self.bench.works[0].frames if holds else None

    length = None

    @invariant()
    def lanes_are_alike(self):
        works = self.bench.works
        assert len({work.frames for work in works}) == 1
        if self.length is not None:
            assert works[0].frames == self.length
        for frame in range(3000, works[0].frames - 3000, 9000):
            for lane, offset in zip(self.bench.linked.lanes, OFFSETS, strict=True):
                assert self.bench.linked.place_in(lane, works[0], frame) == frame + offset

    def teardown(self):
        self.bench.close()
        self.held.cleanup()


TestLanes = Lanes.TestCase
TestLanes.settings = settings(max_examples=4, stateful_step_count=8, deadline=None)
