import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.ndimage import maximum_filter1d

from tests.sounds import RATE, rng
from umbrick.core.sound.pyramid import Pyramid, build
from umbrick.core.sound.source import ArraySource
from umbrick.core.timeline.change import delete, replace
from umbrick.core.timeline.difference import changed_spans
from umbrick.core.timeline.version import Version
from umbrick.core.view.columns import Columns
from umbrick.core.view.ticks import level_ticks, sample_ticks, time_ticks
from umbrick.core.view.window import Window

FRAMES = 400_000


@pytest.fixture(scope="module")
def recording():
    source = ArraySource(rng(3).standard_normal((FRAMES, 2)).astype(np.float32), RATE, "original")
    pyramid = Pyramid(FRAMES, 2)
    build(pyramid, source)
    return source, pyramid


def edited(source):
    version = Version.of(source)
    for number, start in enumerate(range(1000, FRAMES - 1000, 17_777)):
        patch = ArraySource(np.full((7, 2), 9.0), RATE, f"p{number}")
        version = replace(version, start, start + 7, patch).apply(version)
    return delete(version, 50_000, 50_321).apply(version)


@given(st.integers(0, FRAMES - 2), st.integers(1, FRAMES), st.integers(1, 900))
def test_columns_hold_every_extreme(recording, start, length, count):
    source, pyramid = recording
    version = edited(source)
    stop = min(start + length, version.frames)
    if stop <= start:
        return
    extent = Columns({source.key: pyramid}).measure(version, start, stop, count)
    samples = version.read(start, stop)
    assert extent.low.shape == (count, 2)
    margin = 0 if stop - start >= count else 2
    wide = version.read(max(0, start - margin), min(version.frames, stop + margin))
    assert extent.high.max() >= samples.max() - 1e-6
    assert extent.low.min() <= samples.min() + 1e-6
    assert (extent.high.max(axis=0) <= _bucketed(version, start, stop).max(axis=0)).all() or margin
    assert wide.shape[1] == 2


@given(
    places=st.lists(st.tuples(st.integers(0, FRAMES - 300), st.integers(1, 300)), min_size=1, max_size=6),
    count=st.sampled_from([1, 60, 750, 1500]),
    undone=st.integers(0, 3),
)
def test_after_edits_the_columns_are_those_of_a_fresh_look(recording, places, count, undone):
    source, pyramid = recording
    columns = Columns({source.key: pyramid})
    versions = [Version.of(source)]
    for number, (start, length) in enumerate(places):
        patch = ArraySource(np.full((length, 2), 9.0 + number), RATE, f"p{number}")
        versions.append(replace(versions[-1], start, start + length, patch).apply(versions[-1]))
    for version in [*versions, *versions[::-1][1 : 1 + undone]]:
        extent = columns.measure(version, 0, FRAMES, count)
        fresh = Columns({source.key: pyramid}).measure(version, 0, FRAMES, count)
        # Where an edit cuts a bucket, the samples beside it may count for one column or the next.
        for own, its in ((extent.high, fresh.high), (-extent.low, -fresh.low)):
            assert own.max() == its.max()
            assert (own <= maximum_filter1d(its, 5, axis=0)).all()
            assert (its <= maximum_filter1d(own, 5, axis=0)).all()
        whole = FRAMES // count
        assert np.allclose(extent.mean_square.mean() * whole, fresh.mean_square.mean() * whole, rtol=2e-2)


@given(st.lists(st.tuples(st.integers(0, 900), st.integers(1, 99)), min_size=1, max_size=5), st.integers(0, 5))
def test_outside_the_changed_spans_two_versions_are_the_same(places, back):
    versions = [Version.of(ArraySource(np.arange(1000.0)[:, np.newaxis], RATE, "o"))]
    for number, (start, length) in enumerate(places):
        patch = ArraySource(np.full((length, 1), -1.0 - number), RATE, f"p{number}")
        versions.append(replace(versions[-1], start, start + length, patch).apply(versions[-1]))
    one, other = versions[-1], versions[max(0, len(versions) - 1 - back)]
    differs = np.zeros(1000, bool)
    for start, stop in changed_spans(one, other).tolist():
        differs[start:stop] = True
    same = one.read(0, 1000) == other.read(0, 1000)
    assert same[~differs].all()
    assert changed_spans(one, one).size == 0
    assert changed_spans(one, delete(one, 5, 6).apply(one)) is None


def _bucketed(version, start, stop):
    """What a column may show at most: its own frames and the rest of the buckets at its ends."""
    return version.read(max(0, start - 4096 * 64), min(version.frames, stop + 4096 * 64))


def test_columns_of_raw_samples_are_exact(recording):
    source, pyramid = recording
    extent = Columns({source.key: pyramid}).measure(Version.of(source), 1000, 2000, 100)
    expected = source.read(1000, 2000).reshape(100, 10, 2)
    assert np.array_equal(extent.high, expected.max(axis=1))
    assert np.array_equal(extent.low, expected.min(axis=1))


def test_a_mended_sample_is_seen_from_afar_and_up_close(recording):
    source, pyramid = recording
    version = Version.of(source)
    version = replace(version, 200_000, 200_001, ArraySource(np.array([[30.0, 30.0]]), RATE, "p")).apply(version)
    columns = Columns({source.key: pyramid})
    for start, stop, count in ((0, FRAMES, 800), (199_000, 201_000, 800), (199_990, 200_010, 800)):
        high = columns.measure(version, start, stop, count).high
        assert high.max() == 30.0
        column = int((200_000 - start) * count / (stop - start))
        assert high[max(0, column - 1) : column + 2].max() == 30.0


def test_what_is_not_measured_yet_is_absent(recording):
    source, _ = recording
    pyramid = Pyramid(FRAMES, 2)
    pyramid.add(source.read(0, 262_144))
    extent = Columns({source.key: pyramid}).measure(Version.of(source), 0, FRAMES, 100)
    assert (extent.low <= extent.high)[:64].all()
    assert (extent.low > extent.high)[67:].all()


def test_beyond_the_ends_there_is_nothing(recording):
    source, pyramid = recording
    extent = Columns({source.key: pyramid}).measure(Version.of(source), -FRAMES, 2 * FRAMES, 300)
    assert (extent.low > extent.high)[:99].all()
    assert (extent.low <= extent.high)[101:199].all()


windows = st.builds(lambda a, b: Window(a, a + b), st.floats(0, 9000), st.floats(1, 1000))


@given(windows, st.floats(1, 4000), st.floats(-500, 10_500))
def test_pixels_and_frames_invert(window, width, frame):
    assert window.frame_at(window.x_of(frame, width), width) == pytest.approx(frame, abs=1e-6)


@given(windows, st.floats(0.01, 100), st.floats(0, 1), st.floats(-20_000, 20_000))
def test_windows_stay_within_the_recording(window, factor, share, scroll):
    anchor = window.start + share * window.length
    for moved in (
        window.zoomed(factor, anchor, 24, 10_000),
        window.scrolled(scroll, 10_000),
        window.centred(scroll, 10_000),
    ):
        assert moved.start >= 0
        assert moved.stop <= 10_000 + 1e-6
        assert moved.length >= min(24, window.length) - 1e-6


def test_zooming_keeps_the_place_under_the_pointer():
    zoomed = Window(1000, 2000).zoomed(0.5, 1200, 24, 10_000)
    assert zoomed.x_of(1200, 100) == pytest.approx(20)
    assert zoomed.length == 500


def test_showing_moves_only_when_it_must():
    window = Window(1000, 2000)
    assert window.showing(1500, 1510, 10_000) is window
    moved = window.showing(5000, 5010, 10_000)
    assert moved.start < 5000 < 5010 < moved.stop
    assert moved.length == 1000
    assert window.showing(3000, 6000, 10_000).length > 3000


def test_time_ticks_are_round_and_named():
    ticks = time_ticks(Window(0, 4 * RATE), RATE, 760)
    assert [tick.text for tick in ticks if tick.text][:3] == ["0:00.0", "0:00.5", "0:01.0"]
    assert ticks[1].at - ticks[0].at == RATE / 10
    hours = time_ticks(Window(0, 3 * 3600 * RATE), RATE, 760)
    assert any(tick.text == "1:00:00" for tick in hours)


def test_sample_ticks_are_round_numbers():
    assert [tick.at for tick in sample_ticks(Window(595_290, 595_386), 760)][:2] == [595_300, 595_320]
    assert [tick.at for tick in sample_ticks(Window(10, 13), 760)] == [10, 11, 12, 13]


def test_level_ticks_always_have_full_scale_and_room_above_it():
    assert any(tick.text == "0" and tick.at == 1.0 for tick in level_ticks(1.08, 40))
    texts = [tick.text for tick in level_ticks(2.2, 200)]
    assert "+6" in texts
    assert "−3" in texts


def test_a_long_patch_is_drawn_where_its_sound_is():
    sound = np.zeros((RATE, 1), np.float32)
    version = Version.of(ArraySource(sound, RATE, "quiet"))
    pyramid = Pyramid(RATE, 1)
    build(pyramid, version.sources[0])
    patch = np.zeros((30000, 1), np.float32)
    patch[20500] = 0.8
    patched = replace(version, 10000, 40000, ArraySource(patch, RATE, "long")).apply(version)
    extent = Columns({"quiet": pyramid}).measure(patched, 0, RATE, 48)
    assert np.flatnonzero(extent.high[:, 0] > 0.5).tolist() == [30]


@given(st.floats(-50, 5000), st.floats(0.1, 5000), st.integers(0, 3000), st.integers(0, 3))
def test_a_window_tells_the_frames_that_a_recording_has_in_it(start, length, total, beside):
    first, last = Window(start, start + length).frames_in(total, beside)
    assert 0 <= first <= last <= total
    inside = [frame for frame in range(total) if start <= frame < start + length]
    assert set(inside) <= set(range(first, last))
    assert last - first <= length + 2 + 2 * beside
