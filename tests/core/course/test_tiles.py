"""Tiles: named by what they are made of, found again, and never missed when they are gone."""

import errno
import os
import shutil
import subprocess
import sys
import threading
import time
from dataclasses import replace

import numpy as np
import pytest

from tests.core.course.laying import heard, noise, opened, step_of, through
from umbrick.core.course import rendered as rendered_module
from umbrick.core.course.laid import Ground, rendered_source, underneath
from umbrick.core.course.rendering import Rendering
from umbrick.core.course.tiles import Tiles
from umbrick.core.sound import part_file
from umbrick.core.sound.source import ArraySource
from umbrick.core.timeline import change as changes
from umbrick.core.timeline.patch import Patch
from umbrick.core.timeline.version import Version

TILE = 4096


@pytest.fixture(autouse=True)
def _short_tiles(monkeypatch):
    monkeypatch.setattr(rendered_module, "TILE", TILE)


def count_made(version, course, tiles):
    before = tiles.made
    heard(Ground(version, version, tiles).through(course))
    return tiles.made - before


def test_one_mend_makes_just_the_tiles_it_touches_anew():
    version, tiles = opened(noise(20 * TILE)), Tiles()
    course = (step_of(version, "filter"),)
    assert count_made(version, course, tiles) == 20
    assert count_made(version, course, tiles) == 0
    patch = Patch(np.zeros((5, 1)), version.rate)
    mended = changes.replace(version, 10 * TILE + 2000, 10 * TILE + 2005, patch).apply(version)
    before = tiles.made
    made = heard(Ground(mended, version, tiles).through(course))
    assert tiles.made - before == 1
    assert np.array_equal(made, heard(Ground(mended, version, Tiles()).through(course)))


def test_a_step_switched_back_finds_its_tiles_again():
    version, tiles = opened(noise(8 * TILE)), Tiles()
    cut, soft = step_of(version, "filter"), replace(step_of(version, "filter", {"shape": "high_cut"}), id="s2")
    count_made(version, (cut, soft), tiles)
    assert count_made(version, (cut,), tiles) == 0
    assert count_made(version, (cut, soft), tiles) == 0
    assert count_made(version, (soft, cut), tiles) == 16


def test_tiles_are_found_on_the_disk_and_what_is_broken_there_is_made_anew(tmp_path):
    version = opened(noise(4 * TILE))
    course = (step_of(version, "filter"),)
    made = heard(Ground(version, version, Tiles(tmp_path)).through(course))
    again = Tiles(tmp_path)
    assert np.array_equal(heard(Ground(version, version, again).through(course)), made)
    assert again.made == 0
    files = sorted(tmp_path.rglob("*.tile"))
    assert len(files) == 4
    files[0].write_bytes(files[0].read_bytes()[:100])
    data = bytearray(files[1].read_bytes())
    data[1000] ^= 1
    files[1].write_bytes(data)
    files[2].unlink()
    third = Tiles(tmp_path)
    assert np.array_equal(heard(Ground(version, version, third).through(course)), made)
    assert third.made == 3


def test_a_cache_that_is_deleted_under_the_running_program_is_not_missed(tmp_path):
    version, tiles = opened(noise(6 * TILE)), Tiles(tmp_path / "tiles", memory_bytes=1)
    course = (step_of(version, "filter"),)
    made = heard(Ground(version, version, tiles).through(course))
    shutil.rmtree(tmp_path / "tiles")
    assert np.array_equal(heard(Ground(version, version, tiles).through(course)), made)
    assert list((tmp_path / "tiles").rglob("*.tile"))


def test_a_full_disk_is_told_once_and_work_goes_on(tmp_path, monkeypatch):
    told = []
    version, tiles = opened(noise(6 * TILE)), Tiles(tmp_path, on_trouble=told.append)
    course = (step_of(version, "filter"),)

    def no_room(handle, data):
        raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))

    monkeypatch.setattr(part_file, "write_all", no_room)
    made = heard(Ground(version, version, tiles).through(course))
    assert np.array_equal(made, heard(through(version, *course)))
    (sentence,) = told
    assert "No space left" in sentence
    assert "goes on" in sentence
    assert not list(tmp_path.rglob("*.tile"))


def test_the_disk_holds_no_more_than_it_may_and_the_oldest_go_first(tmp_path):
    version = opened(noise(30 * TILE))
    size = 4 * TILE + 4
    tiles = Tiles(tmp_path, limit_bytes=10 * size)
    laid = Ground(version, version, tiles).through((step_of(version, "filter"),))
    for index in range(30):
        laid.read(index * TILE, (index + 1) * TILE)
        os.utime(max(tmp_path.rglob("*.tile"), key=lambda path: path.stat().st_mtime_ns), (index, index))
        assert sum(path.stat().st_size for path in tmp_path.rglob("*.tile")) <= 10 * size
    assert len(list(tmp_path.rglob("*.tile"))) >= 8


def test_what_a_killed_process_leaves_is_whole_or_made_anew(tmp_path):
    code = f"""
import numpy as np
from tests.core.course.laying import noise, opened, step_of
from umbrick.core.course import rendered
rendered.TILE = {TILE}
from umbrick.core.course.laid import Ground
from umbrick.core.course.tiles import Tiles
from pathlib import Path
version = opened(noise(400 * {TILE}))
ground = Ground(version, version, Tiles(Path({str(tmp_path)!r}), memory_bytes=1))
laid = ground.through((step_of(version, "filter"),))
print("ready", flush=True)
while True:
    laid.read(0, laid.frames)
"""
    process = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE)
    assert process.stdout is not None
    process.stdout.readline()
    deadline = time.monotonic() + 60
    while len(list(tmp_path.rglob("*.tile"))) < 5 and time.monotonic() < deadline:
        time.sleep(0.01)
    process.kill()
    process.wait()
    process.stdout.close()
    version = opened(noise(400 * TILE))
    course = (step_of(version, "filter"),)
    tiles = Tiles(tmp_path)
    part = Ground(version, version, tiles).through(course).read(0, 20 * TILE)
    assert np.array_equal(part, Ground(version, version, Tiles()).through(course).read(0, 20 * TILE))
    assert tiles.made < 20


def test_two_who_ask_at_once_have_a_tile_made_once():
    tiles, made = Tiles(), []

    def make():
        time.sleep(0.05)
        made.append(1)
        return np.zeros((4, 1), np.float32)

    threads = [threading.Thread(target=lambda: tiles.get("k", (4, 1), make, False)) for _ in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(made) == 1


def test_a_tile_that_fails_is_tried_again():
    tiles = Tiles()

    def fail():
        raise ValueError("no")

    with pytest.raises(ValueError, match="no"):
        tiles.get("k", (4, 1), fail, False)
    assert len(tiles.get("k", (4, 1), lambda: np.zeros((4, 1), np.float32), False)) == 4


def test_spans_stay_with_their_sound_when_something_before_is_cut_out():
    version = opened(noise(10 * TILE))
    step = step_of(version, "filter", {"shape": "high_cut", "frequency_hz": 300}, [(30_000, 34_000)])
    whole = heard(through(version, step))
    cut = changes.delete(version, 1000, 2234).apply(version)
    made = heard(Ground(cut, version, Tiles()).through((step,)))
    assert np.abs(made[30_000 - 1234 : 34_000 - 1234] - whole[30_000:34_000]).max() < 1e-6
    assert np.array_equal(made[:28_000], heard(cut)[:28_000])
    gone = changes.delete(version, 29_000, 35_000).apply(version)
    assert Ground(gone, version, Tiles()).through((step,)) is gone


def test_a_version_through_a_course_has_the_positions_of_what_is_beneath():
    version = opened(noise(3 * TILE))
    cut = changes.delete(version, 100, 200).apply(version)
    laid = Ground(cut, version, Tiles()).through((step_of(version, "filter"),))
    assert underneath(laid) is cut
    assert laid.frames == cut.frames
    assert laid.origins.tolist() == [0, 200]
    assert rendered_source(laid).below is cut


def test_working_ahead_takes_what_is_heard_first_and_tells_of_faults():
    class Failing(ArraySource):
        def read_exact(self, start, stop):
            if start > 15 * TILE:
                raise RuntimeError("the medium fails")
            return super().read_exact(start, stop)

    order, told = [], []
    version = Version.of(Failing(noise(20 * TILE), 8000, "failing"))
    step = step_of(opened(noise(TILE)), "filter")
    source = rendered_source(Ground(version, version, Tiles()).through((step,)))
    overview = source.overview
    fill = overview.fill
    overview.fill = lambda index, extent: (order.append(index), fill(index, extent))
    rendering = Rendering(on_fault=told.append)
    rendering.attend(source, (2 * TILE, 3 * TILE), 6 * TILE + 5)
    deadline = time.monotonic() + 60
    while not rendering.is_idle and time.monotonic() < deadline:
        time.sleep(0.01)
    rendering.close()
    assert order[:4] == [6, 7, 8, 2]
    assert len(order) >= 14
    assert "the medium fails" in told[0]
