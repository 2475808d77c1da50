"""A version against the obvious model: a plain list of frames, each with the original frame it stands for."""

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

from tests.sounds import RATE, rng
from umbrick.core.sound.source import ArraySource
from umbrick.core.timeline.change import Change, delete, insert, replace, replace_many, restore
from umbrick.core.timeline.history import Edit, History, Mend
from umbrick.core.timeline.patch import Nature, Patch
from umbrick.core.timeline.positions import map_position, map_positions
from umbrick.core.timeline.provenance import provenance, provenance_shares, rebuilt_spans
from umbrick.core.timeline.runs import NO_ORIGIN, Piece, Runs
from umbrick.core.timeline.version import Version

FRAMES = 60


def source(samples, name):
    return ArraySource(np.asarray(samples, np.float32).reshape(-1, 1), RATE, name)


class Editing(RuleBasedStateMachine):
    """Any sequence of edits, undo and redo, checked against lists."""

    @initialize()
    def open(self):
        self.original = Version.of(source(np.arange(FRAMES), "original"))
        self.history = History(self.original)
        first = [(float(value), value) for value in range(FRAMES)]
        self.models, self.now = [first], 0
        self.patches = 0

    @property
    def model(self):
        return self.models[self.now]

    def push(self, change, model):
        self.history.push(Edit("edit", (change,)))
        del self.models[self.now + 1 :]
        self.models.append(model)
        self.now += 1

    def patch(self, length):
        self.patches += 1
        values = -1000.0 * self.patches - np.arange(length)
        return source(values, f"patch{self.patches}"), values.tolist()

    def span(self, data):
        start = data.draw(st.integers(0, len(self.model)), label="start")
        return start, data.draw(st.integers(start, len(self.model)), label="stop")

    @rule(data=st.data())
    def replace(self, data):
        start, stop = self.span(data)
        patch, values = self.patch(stop - start)
        origins = [origin for _, origin in self.model[start:stop]]
        new = list(zip(values, origins, strict=True))
        self.push(replace(self.history.current, start, stop, patch), self.model[:start] + new + self.model[stop:])

    @rule(data=st.data())
    def replace_many(self, data):
        cuts = sorted(data.draw(st.lists(st.integers(0, len(self.model)), max_size=8, unique=True)))
        pairs = [(a, b) for a, b in zip(cuts[::2], cuts[1::2], strict=False) if b > a]
        if not pairs:
            return
        patch, values = self.patch(sum(b - a for a, b in pairs))
        model, offset = list(self.model), 0
        for start, stop in pairs:
            for at in range(start, stop):
                model[at] = (values[offset], model[at][1])
                offset += 1
        starts, stops = (np.array(side) for side in zip(*pairs, strict=True))
        self.push(replace_many(self.history.current, patch, starts, stops), model)

    @rule(data=st.data())
    def delete(self, data):
        start, stop = self.span(data)
        self.push(delete(self.history.current, start, stop), self.model[:start] + self.model[stop:])

    @rule(data=st.data(), length=st.integers(1, 9))
    def insert(self, data, length):
        at = data.draw(st.integers(0, len(self.model)))
        patch, values = self.patch(length)
        new = [(value, None) for value in values]
        self.push(insert(self.history.current, at, patch), self.model[:at] + new + self.model[at:])

    @rule(data=st.data())
    def restore(self, data):
        start, stop = self.span(data)
        current = self.history.current
        begin = map_position(current, self.original, start)
        end = max(begin, map_position(current, self.original, stop))
        model = self.model[:start] + self.models[0][begin:end] + self.model[stop:]
        self.push(restore(current, start, stop, self.original), model)

    @precondition(lambda self: self.now > 0)
    @rule()
    def undo(self):
        assert self.history.undo() is not None
        self.now -= 1

    @precondition(lambda self: self.now < len(self.models) - 1)
    @rule()
    def redo(self):
        assert self.history.redo() is not None
        self.now += 1

    @invariant()
    def reads_like_the_model(self):
        version = self.history.current
        assert version.frames == len(self.model)
        assert version.read(0, version.frames)[:, 0].tolist() == [value for value, _ in self.model]
        middle = version.frames // 2
        assert version.read_exact(middle, version.frames)[:, 0].tolist() == [v for v, _ in self.model[middle:]]
        assert version.available == version.frames

    @invariant()
    def neighbours_that_continue_each_other_are_one_piece(self):
        pieces = [piece for piece, _ in self.history.current.pieces()]
        for left, right in pairwise(pieces):
            follows = NO_ORIGIN if left.origin == NO_ORIGIN else left.origin + left.length
            goes_on = left.source is right.source and left.start + left.length == right.start
            assert not (goes_on and right.origin == follows)

    @invariant()
    def frames_with_an_origin_map_there_and_back(self):
        version = self.history.current
        origins = [origin for _, origin in self.model]
        for at, origin in enumerate(origins):
            if origin is not None and at and origins.count(origin) == 1:
                assert map_position(version, self.original, at) == origin
        assert map_position(version, self.original, 0) == 0
        if version.frames:
            assert map_position(version, self.original, version.frames) == FRAMES

    @invariant()
    def provenance_adds_up(self):
        version = self.history.current
        shares = provenance_shares(version, self.original)
        assert sum(share for name, share in shares.items() if name != "deleted") == pytest.approx(100.0)
        missing = set(range(FRAMES)) - {origin for _, origin in self.model}
        assert shares["deleted"] == pytest.approx(100 * len(missing) / FRAMES)
        own = sum(value >= 0 for value, _ in self.model)
        rebuilt = sum(stop - start for start, stop in rebuilt_spans(version, self.original))
        assert rebuilt == len(self.model) - own


TestEditing = Editing.TestCase
TestEditing.settings = settings(max_examples=40, stateful_step_count=16)


def mended(version, change, title="edit", **mend):
    """Return an edit of one mend that owns the whole change."""
    fields = {"method": "bridge", "start": 0, "stop": 1, "channels": (0,), "parameters": {}} | mend
    return Edit(title, (change,), (Mend(**fields),), ((0, len(change)),))


def test_undo_to_the_start_gives_the_original_itself():
    original = Version.of(source(range(10), "o"))
    history = History(original)
    history.push(mended(original, delete(original, 2, 4), "a"))
    history.push(Edit("b", (delete(history.current, 0, 1),)))
    assert (history.undo_title, history.redo_title) == ("b", None)
    assert [mend.method for mend in history.mends] == ["bridge"]
    history.undo()
    history.undo()
    assert history.undo() is None
    assert history.current.key == original.key
    assert history.mends == ()
    assert history.redo_title == "a"
    history.push(Edit("c", (delete(original, 5, 6),)))
    assert history.redo() is None
    assert history.latest.title == "c"


def test_only_pieces_around_an_edit_are_new():
    version = Version.of(source(range(1000), "o"))
    for start in range(0, 1000, 10):
        version = replace(version, start, start + 1, source([-1.0], f"p{start}")).apply(version)
    assert len(version.starts) == 200
    assert len(restore(version, 0, 1000, Version.of(version.sources[0])).apply(version).starts) == 1


@given(st.lists(st.integers(0, 40), max_size=20))
def test_positions_map_alike_one_by_one_and_together(positions):
    other = original = Version.of(source(range(40), "o"))
    other = delete(other, 5, 9).apply(other)
    other = insert(other, 20, source(rng().random(4), "i")).apply(other)
    other = replace(other, 0, 3, source([1, 2, 3], "r")).apply(other)
    together = map_positions(original, other, positions)
    assert together.tolist() == [map_position(original, other, position) for position in positions]


def test_positions_outside_are_a_programming_error():
    version = Version.of(source(range(4), "o"))
    with pytest.raises(IndexError):
        map_position(version, version, 5)
    with pytest.raises(IndexError):
        version.read(2, 9)
    with pytest.raises(ValueError, match="channels"):
        replace(version, 0, 1, ArraySource(np.zeros((1, 2)), RATE, "p"))
    with pytest.raises(ValueError, match="frames"):
        replace_many(version, source([1.0], "p"), np.array([0]), np.array([2]))
    with pytest.raises(ValueError, match="overlap"):
        replace_many(version, source([1.0, 2.0], "p"), np.array([0, 0]), np.array([1, 1]))


def test_everything_can_be_deleted():
    original = Version.of(source(range(4), "o"))
    nothing = delete(original, 0, 4).apply(original)
    assert nothing.frames == 0
    assert nothing.read(0, 0).shape == (0, 1)
    assert map_position(original, nothing, 2) == 0
    shares = provenance_shares(nothing, original)
    assert (shares["original"], shares["deleted"]) == (100.0, 100.0)
    assert provenance(nothing, original).deleted.tolist() == [0]


def test_the_provenance_tells_what_every_frame_is():
    recording = source(range(20), "o")
    original = Version.of(recording)
    version = replace(original, 2, 4, Patch(np.zeros((2, 1)), RATE, Nature.RELEVELLED)).apply(original)
    version = Change.of(version, [6], [8], Runs.of([[Piece(recording, 12, 2, 6)]])).apply(version)
    version = insert(version, 10, recording).apply(version)
    version = delete(version, 0, 1).apply(version)
    found = provenance(version, original)
    told = {nature.value: found.spans(nature).tolist() for nature in Nature if len(found.spans(nature))}
    assert told["re-levelled"] == [[1, 3]]
    assert told["grafted"] == [[5, 7]]
    assert told["moved"] == [[9, 29]]
    assert found.donors[found.bounds[:-1] == 5].tolist() == [12]
    assert found.deleted.tolist() == [0]
    shares = provenance_shares(version, original)
    assert sum(share for name, share in shares.items() if name != "deleted") == pytest.approx(100.0)
    assert shares["deleted"] == pytest.approx(5.0)
