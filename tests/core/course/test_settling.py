"""Settling: the course's sound as ordinary samples, which can be worked on, and lifted off again."""

import hashlib
import subprocess
import sys
from contextlib import suppress
from dataclasses import replace

import numpy as np
import pytest
import soundfile

from tests.core.course.laying import heard, noise, opened, step_of, through
from umbrick.casebook.store import SETTLED_NAME
from umbrick.core.course.earlier import brought_up, is_earlier, still_kept
from umbrick.core.course.frozen import freeze
from umbrick.core.course.laid import Ground
from umbrick.core.course.rendered import TILE
from umbrick.core.course.settling import settling
from umbrick.core.course.tiles import Tiles
from umbrick.core.errors import CancelledError
from umbrick.core.mend.registry import METHODS
from umbrick.core.sound.part_file import is_part
from umbrick.core.timeline import change as changes
from umbrick.core.timeline.history import Edit, History, Mend
from umbrick.core.timeline.lifting import lift_off
from umbrick.core.timeline.marks import CourseTurn
from umbrick.core.timeline.patch import Patch

FRAMES = 40_000


def ground_of(history):
    return Ground(history.current, history.original, Tiles(), history.settled)


def outcome(history):
    return heard(ground_of(history).through(history.course))


@pytest.fixture
def laid():
    version = opened(noise(FRAMES))
    history = History(version)
    course = (step_of(version, "filter", {"shape": "high_cut", "frequency_hz": 500}),)
    history.push(Edit("lay", marks=(CourseTurn((), course),)))
    return history


def settle(history, folder, start=0, stop=FRAMES):
    made = ground_of(history).through(history.course)
    frozen = freeze(made, ((start, stop),), folder, is_double=False)
    return history.push(settling(history.current, ((start, stop),), frozen, history.course, history.original))


def test_settled_sound_is_what_was_heard_and_the_steps_spare_it(laid, tmp_path):
    before = outcome(laid)
    settle(laid, tmp_path)
    assert np.array_equal(outcome(laid), before)
    assert np.array_equal(heard(laid.current), before)
    assert ground_of(laid).through(laid.course) is laid.current
    (mend,) = laid.mends
    assert mend.method == "settle"


def test_what_is_mended_in_settled_sound_is_heard_as_it_is(laid, tmp_path):
    settle(laid, tmp_path)
    patch = Patch(np.full((10, 1), 0.5), laid.original.rate)
    change = changes.replace(laid.current, 20_000, 20_010, patch)
    laid.push(Edit("redraw", (change,), (Mend("redraw", 20_000, 20_010, (0,), {}),), ((0, 1),)))
    assert (outcome(laid)[20_000:20_010] == 0.5).all()


def test_a_stretch_is_settled_without_an_audible_edge(laid, tmp_path):
    before = outcome(laid)
    settle(laid, tmp_path, 15_000, 25_000)
    after = outcome(laid)
    assert np.array_equal(after[15_000:25_000], before[15_000:25_000])
    assert np.abs(after - before).max() < 0.25 * np.abs(before).max()
    jumps = np.abs(np.diff(after[:, 0].astype(float)))
    assert jumps[[14_999, 24_999]].max() <= np.quantile(np.abs(np.diff(before[:, 0].astype(float))), 0.999)


def test_lifting_it_off_brings_back_what_was_beneath_and_the_course_acts_again(laid, tmp_path):
    before, beneath = outcome(laid), heard(laid.current)
    settle(laid, tmp_path, 15_000, 25_000)
    laid.push(lift_off(laid, [laid.mends[0].id]))
    assert np.array_equal(heard(laid.current), beneath)
    assert np.array_equal(outcome(laid), before)
    laid.undo()
    assert len(laid.settled) == 1
    laid.undo()
    assert laid.settled == ()
    assert np.array_equal(outcome(laid), before)


def test_a_step_laid_later_acts_on_settled_sound_too(laid, tmp_path):
    settle(laid, tmp_path)
    more = step_of(laid.original, "dc", course=laid.course)
    laid.push(Edit("lay", marks=(CourseTurn(laid.course, (*laid.course, more)),)))
    assert np.abs(outcome(laid) - (heard(laid.current) - more.profile["offset"][0])).max() < 1e-6


def test_settling_a_stretch_works_out_just_its_own_tiles(tmp_path):
    version, tiles = opened(noise(8 * TILE)), Tiles()
    made = through(version, step_of(version, "filter"), tiles=tiles)
    freeze(made, ((4 * TILE + 5, 5 * TILE + 5),), tmp_path, is_double=False)
    assert tiles.made == 2


def test_settling_that_is_stopped_leaves_nothing(laid, tmp_path):
    with pytest.raises(CancelledError):
        freeze(ground_of(laid).through(laid.course), ((0, FRAMES),), tmp_path, False, is_cancelled=lambda: True)
    assert list(tmp_path.iterdir()) == []


def test_a_process_killed_while_it_settles_leaves_whole_files_or_none(tmp_path):
    code = f"""
from pathlib import Path
from tests.core.course.laying import noise, opened, step_of
from umbrick.core.course.earlier import brought_up, is_earlier, still_kept
from umbrick.core.course.frozen import freeze
from umbrick.core.course.laid import Ground
from umbrick.core.course.tiles import Tiles
version = opened(noise(3_000_000))
laid = Ground(version, version, Tiles(memory_bytes=1)).through((step_of(version, "filter"),))
print("ready", flush=True)
for stop in range(1_000_000, 3_000_000, 10_000):
    freeze(laid, ((0, stop),), Path({str(tmp_path)!r}), False)
"""
    for seconds in (0.02, 0.3, 0.9):
        process = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE)
        assert process.stdout is not None
        process.stdout.readline()
        with suppress(subprocess.TimeoutExpired):
            process.wait(seconds)
        process.kill()
        process.wait()
        process.stdout.close()
    for path in tmp_path.iterdir():
        if not is_part(path):
            assert SETTLED_NAME.fullmatch(path.name)
            with soundfile.SoundFile(path) as file:
                frames = file.read(dtype="float64", always_2d=True)
            assert hashlib.blake2b(frames.tobytes(), digest_size=16).hexdigest() == path.stem


def test_what_an_earlier_treatment_made_is_kept_as_far_as_it_is_still_there(tmp_path, monkeypatch):
    version = opened(noise(3 * TILE))
    history, folder = History(version), tmp_path / "cache"
    course = (step_of(version, "filter", {"shape": "high_cut", "frequency_hz": 500}),)
    history.push(Edit("lay", marks=(CourseTurn((), course),)))
    before = heard(Ground(version, version, Tiles(folder)).through(course))
    next(path for path in folder.rglob("*.tile") if tile_of(path) == before[TILE : 2 * TILE].tobytes()).unlink()
    does = replace(METHODS["filter"].does, version=2, process=lambda block, *_: 0.5 * block.own)
    monkeypatch.setitem(METHODS, "filter", replace(METHODS["filter"], does=does))
    ground = Ground(version, version, Tiles(folder))
    as_made = ground.through(course, as_made=True)
    spans = still_kept(as_made)
    assert spans == ((0, TILE), (2 * TILE, 3 * TILE))
    frozen = freeze(as_made, spans, tmp_path, is_double=False)
    turn = CourseTurn(course, brought_up(course))
    history.push(settling(version, spans, frozen, course, version, turns=(turn,)))
    after = outcome(history)
    for start, stop in spans:
        assert np.array_equal(after[start:stop], before[start:stop])
    assert np.array_equal(after[TILE : 2 * TILE], np.float32(0.5) * heard(version)[TILE : 2 * TILE])
    assert not any(is_earlier(step) for step in history.course)


def tile_of(path):
    return path.read_bytes()[4:]
