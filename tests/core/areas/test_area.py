import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.areas.shaping import areas, boxes, shapes
from umbrick.core.areas.area import Area, Join
from umbrick.core.areas.shapes import Box, Cells, Mosaic, Outline, Point, Stroke
from umbrick.core.areas.transform import ShortTime
from umbrick.core.errors import ParameterError

CELLS = Cells(0, 512, 40, 46.875, 257)


@given(areas)
def test_writing_and_reading_an_area_is_the_identity(area):
    assert Area.parsed(area.text, area.harmonics) == area


@settings(max_examples=15, deadline=None)
@given(areas, shapes)
def test_areas_join_as_sets_do(area, shape):
    own, other = area.covered(CELLS), Area.of(shape).covered(CELLS)
    single = Area(area.parts)
    assert np.all((own >= 0) & (own <= 1))
    assert np.all(own >= single.covered(CELLS) - 1e-12)
    assert np.allclose(single.joined(Join.ADD, shape).covered(CELLS), np.maximum(single.covered(CELLS), other))
    assert np.all(single.joined(Join.MEET, shape).covered(CELLS) <= other + 1e-12)
    assert not (single.joined(Join.TAKE, shape).covered(CELLS)[other == 1]).any()


@settings(max_examples=40, deadline=None)
@given(shapes, st.integers(-5, 5))
def test_what_is_moved_by_whole_rows_covers_the_same_elsewhere(shape, rows):
    wide = Cells(-20 * 512, 512, 100, 46.875, 257)
    before, after = Area.of(shape).covered(wide), Area.of(shape.moved(512.0 * rows)).covered(wide)
    assert np.allclose(np.roll(before, rows, axis=0)[10:-10], after[10:-10], atol=1e-6)


@given(boxes())
def test_a_box_covers_as_much_as_it_is_large(box):
    large = Cells(-5120, 512, 100, 46.875, 513)
    covered = Area.of(box).covered(large).sum() * large.hop * large.hz
    top = large.edges_hz[-1]
    size = (box.stop - box.start) * max(0.0, min(box.high_hz, top) - box.low_hz)
    assert covered == pytest.approx(size, rel=1e-6, abs=1e-3)


def test_an_outline_round_a_box_covers_the_same_within():
    corners = (Point(1024, 1000), Point(8192, 1000), Point(8192, 3000), Point(1024, 3000))
    box = Area.of(Box(1024, 8192, 1000, 3000)).covered(CELLS)
    outline = Area.of(Outline(corners)).covered(CELLS)
    assert np.array_equal(outline[3:15], box[3:15])


def test_a_brush_covers_all_along_its_way_and_no_more():
    stroke = Stroke(2048, 400, (Point(4000, 1000), Point(16000, 5000)))
    covered = Area.of(stroke).covered(CELLS)
    for share in np.linspace(0, 1, 9):
        row, column = round((4000 + share * 12000) / 512), round((1000 + share * 4000) / 46.875)
        assert covered[row, column] == 1
    assert covered[8, 100] == 0
    assert covered[30, 30] == 0


def test_harmonics_lie_at_multiples():
    covered = (
        Area.of(Box(0, 20_000, 1000, 1200)).covered(CELLS),
        Area(((Join.ADD, Box(0, 20_000, 1000, 1200)),), 3).covered(CELLS),
    )
    assert covered[0][10, round(2200 / 46.875)] == 0
    assert covered[1][10, round(2200 / 46.875)] == 1
    assert covered[1][10, round(3300 / 46.875)] == 1
    assert covered[1][10, round(4400 / 46.875)] == 0


def test_cells_of_a_mask_cover_just_those():
    mask = np.zeros((5, 257), bool)
    mask[1, 20:30] = mask[3, 40:42] = True
    covered = Area.of(Mosaic.of(mask, 512 * 9.5, 512, 46.875)).covered(CELLS)
    assert np.array_equal(covered[10:15] > 0.5, mask)
    assert covered.sum() == mask.sum()


@pytest.mark.parametrize(
    "text", ["", "0:100 10:200", "box 0:1", "brush 0:100 5:5", "cells 0 512:40 7", "0:-5 3:4 5:6", "1:2 x 3:4"]
)
def test_what_is_no_area_is_refused_in_words(text):
    with pytest.raises(ParameterError):
        Area.parsed(text)


@settings(max_examples=30, deadline=None)
@given(st.integers(1, 9000), st.sampled_from([64, 512, 2048]), st.integers(0, 9))
def test_sound_comes_back_from_its_spectra(frames, size, seed):
    wave = np.random.default_rng(seed).standard_normal(frames)
    transform = ShortTime(size)
    assert np.abs(transform.sound(transform.spectra(wave), frames) - wave).max() < 1e-6
