"""The windows and filters against SciPy's, which take two seconds to load where the program itself does."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import signal

from tests.sounds import rng
from umbrick.core.filters.recursive import band_pass, filtered, filtered_both_ways, high_pass, high_shelf, low_cut
from umbrick.core.filters.windows import hann, low_pass_taps


@pytest.mark.parametrize("rate", [2000, 48000, 1_000_000])
def test_filters_are_those_of_the_textbook(rate):
    assert np.allclose(high_pass(0.3 * rate, rate), signal.butter(2, 0.3 * rate, "highpass", fs=rate, output="sos"))
    own = signal.freqz_sos(band_pass(20.0, 130.0, rate), 500)[1]
    assert np.allclose(own, signal.freqz_sos(signal.butter(2, (20, 130), "bandpass", fs=rate, output="sos"), 500)[1])
    level = np.abs(signal.freqz_sos(high_shelf(4.0, np.sqrt(0.5), 0.2 * rate, rate), [0, np.pi])[1])
    assert level == pytest.approx([1.0, 10 ** (4 / 20)])
    assert np.abs(signal.freqz_sos(low_cut(0.5, 0.1 * rate, rate), [0, np.pi])[1]) == pytest.approx([0.0, 1.0])


@given(st.lists(st.integers(0, 700), min_size=1, max_size=6).filter(sum), st.integers(1, 3))
def test_a_wave_is_filtered_alike_in_whatever_parts_it_comes(lengths, waves):
    sections = np.concatenate([high_shelf(4.0, 0.7, 1500, 48000), high_pass(40.0, 48000)])
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
