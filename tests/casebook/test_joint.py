"""Steps over several recordings are made in all of them, or in none."""

import os
import random
import signal
import subprocess
import sys
import time

import numpy as np
import pytest

from tests.sounds import rng, write
from umbrick.casebook.casebook import Casebook
from umbrick.casebook.errors import CasebookError
from umbrick.casebook.joint import Part, PartialStepError, commit_together, step_together
from umbrick.core.sound.recording import open_recording
from umbrick.core.timeline.change import delete, insert
from umbrick.core.timeline.history import Edit, LengthHeldError
from umbrick.core.timeline.patch import Patch

LANES = 3


class Lanes:
    """Three recordings of one casebook."""

    def __init__(self, folder):
        self.folder = folder
        path = folder / "set.casebook"
        paths = [folder / f"{number}.wav" for number in range(LANES)]
        for number, one in enumerate(paths):
            if not one.exists():
                write(one, 0.5 * rng(number).uniform(-1, 1, (2000, 1)))
        self.casebook = Casebook.open(path) if path.exists() else Casebook.create(path)
        self.recordings = [open_recording(one, folder / "cache") for one in paths]
        self.shelves = [
            self.casebook.shelf_of(recording.path) or self.casebook.add(recording) for recording in self.recordings
        ]
        self.histories = [
            shelf.history(recording.source).history
            for shelf, recording in zip(self.shelves, self.recordings, strict=True)
        ]

    def parts(self, start=100, stop=150):
        return [
            Part(shelf, history, Edit("cut", (delete(history.current, start, stop),)))
            for shelf, history in zip(self.shelves, self.histories, strict=True)
        ]

    def pairs(self):
        return list(zip(self.shelves, self.histories, strict=True))

    def steps(self):
        return [[edit.step for edit in history.edits] for history in self.histories]

    def close(self):
        self.casebook.close()
        for recording in self.recordings:
            recording.close()


@pytest.fixture
def lanes(tmp_path):
    held = Lanes(tmp_path)
    yield held
    held.close()


def test_a_step_is_made_undone_and_brought_back_in_all(lanes):
    originals = [history.original.key for history in lanes.histories]
    commit_together(lanes.parts())
    assert [history.current.frames for history in lanes.histories] == [1950] * LANES
    assert len({step for steps in lanes.steps() for step in steps}) == 1
    mended = [history.current.key for history in lanes.histories]
    assert len(step_together(lanes.pairs(), -1)) == LANES
    assert [history.current.key for history in lanes.histories] == originals
    assert len(step_together(lanes.pairs(), 1)) == LANES
    assert [history.current.key for history in lanes.histories] == mended
    lanes.close()
    lanes.__init__(lanes.folder)
    assert [history.current.key for history in lanes.histories] == mended


def test_what_one_lane_was_given_later_is_taken_back_first(lanes):
    commit_together(lanes.parts())
    shelf, history = lanes.pairs()[1]
    shelf.commit(history, Edit("alone", (delete(history.current, 0, 5),)))
    assert [edit.title for edit in step_together(lanes.pairs(), -1)] == ["alone"]
    assert [edit.title for edit in step_together(lanes.pairs(), -1)] == ["cut"] * LANES


def test_a_step_is_not_half_undone(lanes):
    commit_together(lanes.parts())
    with pytest.raises(PartialStepError):
        step_together(lanes.pairs()[:2], -1)
    step_together(lanes.pairs(), -1)
    shelf, history = lanes.pairs()[0]
    shelf.commit(history, Edit("alone", (delete(history.current, 0, 5),)))
    with pytest.raises(PartialStepError):
        step_together(lanes.pairs(), 1)
    assert [history.now for history in lanes.histories] == [1, 0, 0]


@pytest.mark.parametrize("failing", range(LANES))
def test_if_one_cannot_be_written_none_is(lanes, failing, monkeypatch):
    real = type(lanes.shelves[0]).write

    def full(shelf, *arguments):
        if shelf.number == lanes.shelves[failing].number:
            raise CasebookError("There is no room left.")
        return real(shelf, *arguments)

    monkeypatch.setattr(type(lanes.shelves[0]), "write", full)
    with pytest.raises(CasebookError):
        commit_together(lanes.parts())
    monkeypatch.undo()
    assert lanes.steps() == [[]] * LANES
    commit_together(lanes.parts())
    lanes.close()
    lanes.__init__(lanes.folder)
    assert [history.now for history in lanes.histories] == [1] * LANES


def test_a_stale_part_stops_all(lanes):
    parts = lanes.parts()
    shelf, history = lanes.pairs()[2]
    shelf.commit(history, Edit("alone", (delete(history.current, 90, 120),)))
    with pytest.raises(Exception, match="has changed since"):
        commit_together(parts)
    assert [history.now for history in lanes.histories] == [0, 0, 1]


def test_a_length_that_is_held_stays(lanes):
    shelf, history = lanes.pairs()[0]
    shelf.write_holds_length(history, True)
    with pytest.raises(LengthHeldError, match="shorter by 50 frames"):
        commit_together(lanes.parts())
    assert [history.now for history in lanes.histories] == [0] * LANES
    same = [delete(history.current, 10, 20)]
    version = same[0].apply(history.current)
    same.append(insert(version, 500, Patch(np.zeros((10, 1)), 48000)))
    shelf.commit(history, Edit("pay back", tuple(same)))
    lanes.close()
    lanes.__init__(lanes.folder)
    assert lanes.histories[0].holds_length
    assert lanes.histories[0].timing_debt == 0
    assert lanes.histories[0].now == 1


_WORKER = """
import sys
from pathlib import Path
from tests.casebook.test_joint import Lanes
from umbrick.casebook.joint import commit_together, step_together
lanes = Lanes(Path(sys.argv[1]))
print("ready", flush=True)
while True:
    commit_together(lanes.parts(10, 11))
    if lanes.histories[0].now % 3 == 0:
        step_together(lanes.pairs(), -1)
"""


def test_a_process_that_is_killed_leaves_whole_steps(tmp_path):
    random.seed(1)
    Lanes(tmp_path).close()
    for _ in range(4):
        worker = subprocess.Popen([sys.executable, "-c", _WORKER, str(tmp_path)], stdout=subprocess.PIPE)
        assert worker.stdout.readline() == b"ready\n"
        time.sleep(random.uniform(0.02, 0.2))
        os.kill(worker.pid, signal.SIGKILL)
        worker.wait()
        worker.stdout.close()
        lanes = Lanes(tmp_path)
        told = lanes.steps()
        assert told[0] == told[1] == told[2]
        assert len({history.current.frames for history in lanes.histories}) == 1
        lanes.close()
    assert told[0]
