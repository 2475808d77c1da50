"""The windows and filters against SciPy's, which take two seconds to load where the program itself does."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import signal

from tests.sounds import rng
from umbrick.core.errors import ParameterError
from umbrick.core.filters.recursive import band_pass, filtered, filtered_both_ways, high_pass
from umbrick.core.filters.shapes import SHAPES, SLOPES_DB, Point, parsed_points, response
from umbrick.core.filters.windows import hann, low_pass_taps
from umbrick.core.filters.zero_phase import kernel_frames, kernel_of


@pytest.mark.parametrize("rate", [2000, 48000, 1_000_000])
def test_filters_are_those_of_the_textbook(rate):
    assert np.allclose(high_pass(0.3 * rate, rate), signal.butter(2, 0.3 * rate, "highpass", fs=rate, output="sos"))
    own = signal.freqz_sos(band_pass(20.0, 130.0, rate), 500)[1]
    assert np.allclose(own, signal.freqz_sos(signal.butter(2, (20, 130), "bandpass", fs=rate, output="sos"), 500)[1])


@pytest.mark.parametrize("rate", [8000, 48000, 384000])
def test_the_shapes_do_what_they_are_called(rate):
    def level_at(point, hz):
        return float(np.abs(signal.freqz_sos(point.sections(rate), [hz], fs=rate)[1][0]))

    middle, top = 0.1 * rate, 0.5 * rate
    for slope_db in (12, 24, 48):
        assert level_at(Point("low_cut", middle, slope_db=slope_db), middle) == pytest.approx(np.sqrt(0.5), rel=1e-3)
        assert level_at(Point("low_cut", 0.01 * rate, slope_db=slope_db), 0.005 * rate) == pytest.approx(
            10 ** (-slope_db / 20), rel=0.05
        )
        assert level_at(Point("high_cut", middle, slope_db=slope_db), top) == pytest.approx(0, abs=1e-9)
    assert level_at(Point("low_cut", middle, q=2.0), middle) == pytest.approx(2.0)
    assert level_at(Point("high_shelf", middle, 4.0), top) == pytest.approx(10 ** (4 / 20))
    assert level_at(Point("low_shelf", middle, -6.0), 0) == pytest.approx(10 ** (-6 / 20))
    assert level_at(Point("bell", middle, -9.0, 2.0), middle) == pytest.approx(10 ** (-9 / 20))
    assert level_at(Point("bell", middle, -9.0, 2.0), 0) == pytest.approx(1.0)
    assert level_at(Point("notch", middle, q=4.0), middle) == pytest.approx(0, abs=1e-9)
    edges = level_at(Point("notch", 0.01 * rate, q=4.0), 0.01 * rate * (np.sqrt(1 + 1 / 64) - 1 / 8))
    assert edges == pytest.approx(np.sqrt(0.5), rel=0.01)


points = st.builds(
    Point,
    st.sampled_from(SHAPES),
    st.floats(20, 9e4),
    st.floats(-20, 20),
    st.floats(0.2, 20),
    st.sampled_from(SLOPES_DB),
)


@given(st.lists(points, max_size=6))
def test_filters_are_read_as_they_are_written(made):
    rounded = parsed_points(" ".join(point.text for point in made))
    assert parsed_points(" ".join(point.text for point in rounded)) == rounded
    assert [point.shape for point in rounded] == [point.shape for point in made]


@pytest.mark.parametrize(
    "text", ["bell", "bell:x", "tilt:100", "bell:1", "bell:1000:90", "low_cut:80:0:1:7", "bell:nan"]
)
def test_what_is_no_filter_is_refused(text):
    with pytest.raises(ParameterError):
        parsed_points(text)


@given(points, st.sampled_from([8000, 44100, 192000]))
def test_a_kernel_has_the_response_of_its_filter(point, rate):
    reach = kernel_frames(point.sections(rate))
    if reach > 1 << 15:
        return
    fine = 2 * reach + 1
    kernel = kernel_of(response([point], rate, fine), reach)
    wanted = response([point], rate, 1001)
    own = np.abs(signal.freqz(kernel, 1, np.pi * np.arange(1001) / 1000)[1])
    assert np.abs(own - wanted).max() < 1e-4 * max(1.0, wanted.max())
    assert np.array_equal(kernel, kernel[::-1])


@given(st.lists(st.integers(0, 700), min_size=1, max_size=6).filter(sum), st.integers(1, 3))
def test_a_wave_is_filtered_alike_in_whatever_parts_it_comes(lengths, waves):
    sections = np.concatenate([Point("high_shelf", 1500, 4.0).sections(48000), high_pass(40.0, 48000)])
    wave = rng(1).standard_normal((waves, sum(lengths)))
    expected, left = signal.sosfilt(sections, wave, axis=1, zi=np.zeros((2, waves, 2)))
    parts, state, at = [], None, 0
    for length in lengths:
        made, state = filtered(sections, wave[:, at : at + length], state)
        parts.append(made)
        at += length
    assert np.allclose(np.hstack(parts), expected, atol=1e-9)
    assert np.allclose(state, left, atol=1e-9)


def test_long_sound_is_filtered_as_short_sound_is():
    sections = high_pass(40.0, 48000)
    wave = rng(2).standard_normal((1, 600_000))
    first, state = filtered(sections, wave[:, :300_000])
    second, _ = filtered(sections, wave[:, 300_000:], state)
    assert np.allclose(np.hstack([first, second]), filtered(sections, wave)[0], atol=1e-9)


def test_filtered_both_ways_nothing_is_delayed():
    sections = band_pass(20.0, 130.0, 2000)
    wave = np.cumsum(rng(3).standard_normal(900))
    assert np.allclose(filtered_both_ways(sections, wave, 15), signal.sosfiltfilt(sections, wave, padlen=15), atol=1e-8)
    assert len(filtered_both_ways(sections, wave[:1], 15)) == 1


def test_windows_are_scipys():
    assert np.allclose(hann(480), signal.get_window("hann", 480))
    assert np.allclose(low_pass_taps(65, 0.25), signal.firwin(65, 0.25))
