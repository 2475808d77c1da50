"""Lifting off against the obvious model: a list of frames, and mends that swap one run of them for another."""

import numpy as np
import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

from tests.sounds import RATE
from umbrick.core.timeline.change import Change, delete, insert, replace
from umbrick.core.timeline.history import RESTORE, Edit, History, Mend
from umbrick.core.timeline.lifting import (
    Rebuilt,
    StandsOnError,
    lift_off,
    made_again,
    restore_here,
    span_of,
    switch_off,
    switch_on,
)
from umbrick.core.timeline.patch import Patch
from umbrick.core.timeline.runs import Runs
from umbrick.core.timeline.version import Version

FRAMES = 40


def frames_of(version):
    return version.read(0, version.frames)[:, 0].astype(int).tolist()


def patch(values):
    return Patch(np.array(values, np.float32).reshape(-1, 1), RATE)


def mend(change, name="bridge"):
    start, stop = int(change.starts[0]), int(change.stops[-1])
    made = Mend(name, start, stop, (0,), {}, time_shift=change.time_shift)
    return Edit(name, (change,), (made,), ((0, len(change)),))


class Swap:
    """What one mend did, in values: every frame of the model has a value of its own."""

    def __init__(self, before, start, old, new):
        self.old, self.new = before[start : start + old], new
        self.left = before[start - 1] if start else None
        self.right = before[start + old] if start + old < len(before) else None

    def replayed(self, frames, beside_one=True):
        """Return the frames with this mend made, or None where its place is not as it was."""
        if self.old:
            places = [at for at in range(len(frames)) if frames[at : at + len(self.old)] == self.old]
        else:
            padded = [None, *frames, None]
            places = [at for at in range(len(padded) - 1) if padded[at : at + 2] == [self.left, self.right]]
            if beside_one:  # what was put beside something that is gone stays beside the other
                places = places or [at for at in range(len(padded) - 1) if padded[at] == self.left]
                places = places or [at for at in range(len(padded) - 1) if padded[at + 1] == self.right]
        return frames[: places[0]] + self.new + frames[places[0] + len(self.old) :] if places else None


class Lifting(RuleBasedStateMachine):
    """Mends made, switched, lifted off and undone in any order."""

    @initialize()
    def open(self):
        self.original = Version.of(patch(range(FRAMES)))
        self.history = History(self.original)
        self.swaps = {}
        self.fresh = 1000

    def make(self, change, start, old, new):
        swap = Swap(frames_of(self.history.current), start, old, new)
        edit = self.history.push(mend(change))
        self.swaps[edit.made[0].id] = swap

    def new_values(self, count):
        self.fresh += count
        return list(range(self.fresh - count, self.fresh))

    def span(self, data, longest=6):
        frames = self.history.current.frames
        start = data.draw(st.integers(0, frames))
        return start, data.draw(st.integers(start, min(frames, start + longest)))

    @rule(data=st.data())
    def replace(self, data):
        start, stop = self.span(data)
        if start < stop:
            new = self.new_values(stop - start)
            self.make(replace(self.history.current, start, stop, patch(new)), start, stop - start, new)

    @rule(data=st.data())
    def delete(self, data):
        start, stop = self.span(data)
        if start < stop:
            self.make(delete(self.history.current, start, stop), start, stop - start, [])

    @rule(data=st.data(), count=st.integers(1, 4))
    def insert(self, data, count):
        start, _ = self.span(data)
        new = self.new_values(count)
        self.make(insert(self.history.current, start, patch(new)), start, 0, new)

    def take_back(self, edit_of, mend_id):
        others = [e.mend.id for e in self.history.ledger if e.is_on and e.mend.id != mend_id]
        expected = frames_of(self.original)
        for other in others:
            expected = None if expected is None else self.swaps[other].replayed(expected)
        before = self.history.current.key
        blockers = None
        try:
            edit = edit_of(self.history, [mend_id])
        except StandsOnError as error:
            blockers = error.blockers
        if blockers is not None:
            assert self.history.current.key == before
            assert all(blocker.is_on and blocker.mend.id != mend_id for blocker in blockers)
            return False
        self.history.push(edit)
        assert expected is not None
        assert frames_of(self.history.current) == expected
        return True

    @precondition(lambda self: any(e.is_on for e in self.history.ledger))
    @rule(data=st.data(), edit_of=st.sampled_from([switch_off, lift_off]))
    def take_one_back(self, data, edit_of):
        mend_id = data.draw(st.sampled_from([e.mend.id for e in self.history.ledger if e.is_on]))
        if not self.take_back(edit_of, mend_id):
            with pytest.raises(StandsOnError) as caught:
                edit_of(self.history, [mend_id])
            together = [mend_id, *(entry.mend.id for entry in caught.value.blockers)]
            blockers = None
            try:
                self.history.push(edit_of(self.history, together))
            except StandsOnError as error:
                blockers = error.blockers
            assert not blockers
            assert blockers == () or not any(e.is_on for e in self.history.ledger if e.mend.id in together)

    @precondition(lambda self: any(not e.is_on for e in self.history.ledger))
    @rule(data=st.data())
    def switch_one_on(self, data):
        mend_id = data.draw(st.sampled_from([e.mend.id for e in self.history.ledger if not e.is_on]))
        expected = self.swaps[mend_id].replayed(frames_of(self.history.current))
        undisturbed = self.swaps[mend_id].replayed(frames_of(self.history.current), beside_one=False)
        try:
            self.history.push(switch_on(self.history, [mend_id]))
        except StandsOnError:
            assert undisturbed is None
            return
        assert frames_of(self.history.current) == expected
        # Where it was made again is the newest place it has: the frames beside it may be others now.
        self.history.push(switch_off(self.history, [mend_id]))
        self.history.undo()

    @precondition(lambda self: self.history.now)
    @rule()
    def undo_and_redo(self):
        after, ledger = self.history.current.key, self.history.ledger
        self.history.undo()
        before = self.history.current.key
        self.history.redo()
        assert (self.history.current.key, self.history.ledger) == (after, ledger)
        self.history.undo()
        assert self.history.current.key == before

    @invariant()
    def going_back_to_the_start_gives_the_original(self):
        history = History.rebuilt(
            self.original, self.history.all_edits, self.history.now, self.history.now, self.history.current
        )
        assert [(e.mend, e.is_on) for e in history.ledger] == [(e.mend, e.is_on) for e in self.history.ledger]
        while history.undo():
            pass
        assert history.current.key == self.original.key
        assert history.ledger == ()


TestLifting = Lifting.TestCase
TestLifting.settings = settings(max_examples=50, stateful_step_count=14, deadline=None)


@pytest.fixture
def history():
    history = History(Version.of(patch(range(FRAMES))))
    history.push(mend(replace(history.current, 5, 8, patch([100, 101, 102]))))
    history.push(mend(delete(history.current, 20, 25)))
    history.push(mend(replace(history.current, 7, 9, patch([200, 201]))))
    return history


def test_a_mend_that_is_stood_on_says_by_which(history):
    with pytest.raises(StandsOnError, match="A later mend stands on it") as caught:
        lift_off(history, ["m1"])
    assert [entry.mend.id for entry in caught.value.blockers] == ["m3"]
    history.push(lift_off(history, ["m1", "m3"]))
    assert [entry.mend.id for entry in history.ledger] == ["m2"]
    assert frames_of(history.current) == [*range(20), *range(25, FRAMES)]


def test_a_mend_is_found_where_later_edits_have_moved_it(history):
    history.push(mend(insert(history.current, 0, patch([7, 7, 7]))))
    assert span_of(history.current, history.entry("m3")) == (10, 12)
    assert span_of(history.current, history.entry("m2")) == (23, 23)
    assert span_of(history.current, history.entry("m1")) is None


def test_doing_a_mend_again_replaces_it_and_is_one_step(history):
    before = frames_of(history.current)

    def rebuild(version):
        assert frames_of(version)[7:9] == [102, 8]
        change = replace(version, 7, 9, patch([300, 301]))
        return Rebuilt(change, Mend("bridge", 7, 9, (0,), {"strength": 2}))

    history.push(made_again(history, "m3", rebuild))
    assert frames_of(history.current)[7:9] == [300, 301]
    assert [entry.mend.id for entry in history.ledger] == ["m1", "m2", "m4"]
    history.undo()
    assert frames_of(history.current) == before


def test_restoring_a_span_is_an_entry_that_reopens_what_it_covers():
    history = History(Version.of(patch(range(FRAMES))))
    for number, start in enumerate((5, 15)):
        change = replace(history.current, start, start + 3, patch([100 + number] * 3))
        history.push(Edit("x", (change,), (Mend("x", start, 9, (0,), {}, finding_ids=(f"f{number}",)),), ((0, 1),)))
    history.push(restore_here(history, 0, 16))
    assert frames_of(history.current) == [*range(16), 101, 101, *range(18, FRAMES)]
    entry = history.ledger[-1]
    assert (entry.mend.method, entry.mend.reopened_ids) == (RESTORE, ("f0",))
    assert restore_here(history, 0, 10) is None
    with pytest.raises(StandsOnError):
        switch_off(history, ["m1"])
    history.push(lift_off(history, [entry.mend.id]))
    assert frames_of(history.current)[5:8] == [100, 100, 100]


def test_a_mend_that_changed_nothing_can_be_switched_and_lifted():
    history = History(Version.of(patch(range(FRAMES))))
    nothing = Change.of(history.current, [], [], Runs.of([]))
    history.push(Edit("declip", (nothing,), (Mend("declip", 3, 4, (0,), {}),), ((0, 0),)))
    history.push(switch_off(history, ["m1"]))
    history.push(switch_on(history, ["m1"]))
    history.push(lift_off(history, ["m1"]))
    assert history.ledger == ()
    assert frames_of(history.current) == list(range(FRAMES))
