import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.sounds import RATE, rng, voice
from umbrick.core.errors import CancelledError
from umbrick.core.sound.pyramid import BUCKET, Pyramid, build, sketch
from umbrick.core.sound.source import ArraySource


def built(samples):
    source = ArraySource(samples, RATE, "s")
    pyramid = Pyramid(source.frames, source.channels)
    build(pyramid, source)
    return pyramid


@given(st.integers(1, 300_000), st.integers(1, 3))
def test_every_level_holds_the_extremes_and_the_energy(frames, channels):
    samples = rng(frames).standard_normal((frames, channels)).astype(np.float32)
    pyramid = built(samples)
    assert pyramid.is_complete
    for longest in (BUCKET, BUCKET * 16, BUCKET * 1024):
        bucket, extent = pyramid.buckets(0, frames, longest)
        assert len(extent.low) == -(-frames // bucket)
        for index in {0, len(extent.low) // 2, len(extent.low) - 1}:
            part = samples[index * bucket : (index + 1) * bucket]
            assert np.array_equal(extent.low[index], part.min(axis=0))
            assert np.array_equal(extent.high[index], part.max(axis=0))
            assert np.allclose(extent.mean_square[index], np.square(part).mean(axis=0), rtol=0.02)


def test_a_saved_pyramid_is_the_same_again(tmp_path):
    pyramid = built(voice(3.0))
    pyramid.save(tmp_path / "deep" / "p.npy")
    loaded = Pyramid.load(tmp_path / "deep" / "p.npy", pyramid.frames, 1)
    for first, second in zip(
        pyramid.buckets(0, pyramid.frames, 4096)[1], loaded.buckets(0, pyramid.frames, 4096)[1], strict=True
    ):
        assert np.array_equal(first, second)


@pytest.mark.parametrize("content", [b"", b"not numpy", None])
def test_a_damaged_or_foreign_pyramid_is_made_anew(tmp_path, content):
    path = tmp_path / "p.npy"
    if content is not None:
        path.write_bytes(content)
    assert Pyramid.load(path, 1000, 1) is None
    built(voice(0.5)).save(path)
    assert Pyramid.load(path, 1000, 1) is None


def test_building_can_be_stopped_and_goes_on_later():
    source = ArraySource(voice(20.0), RATE, "s")
    pyramid = Pyramid(source.frames, 1)
    calls = iter([False, True])
    with pytest.raises(CancelledError):
        build(pyramid, source, is_cancelled=lambda: next(calls))
    assert 0 < pyramid.measured_frames < source.frames
    shares = []
    build(pyramid, source, shares.append)
    assert shares[-1] == 1.0
    whole = built(voice(20.0))
    assert np.array_equal(
        pyramid.buckets(0, source.frames, BUCKET)[1].high, whole.buckets(0, source.frames, BUCKET)[1].high
    )


def test_a_sketch_looks_everywhere_without_reading_everything():
    samples = np.zeros((480_000, 1), np.float32)
    samples[240_000:] = 0.5
    extent = sketch(ArraySource(samples, RATE, "s"), 100)
    assert not extent.high[:49].any()
    assert (extent.high[51:] == 0.5).all()
