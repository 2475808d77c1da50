import numpy as np
import pytest

from tests.sounds import RATE, sine
from umbrick.playback.meter import Meter


def feed(meter, sound, size=1024):
    for start in range(0, len(sound), size):
        meter.feed(sound[start : start + size].astype(np.float32))


def test_the_peak_falls_and_the_held_peak_stays_for_a_while():
    meter = Meter(RATE, 1)
    feed(meter, sine(level=0.5, seconds=0.2))
    feed(meter, np.zeros((RATE // 2, 1)))
    assert meter.reading.peak_dbfs == pytest.approx(-6.02 - 12, abs=0.6)
    assert meter.reading.held_dbfs == pytest.approx(-6.02, abs=0.01)
    feed(meter, np.zeros((2 * RATE, 1)))
    assert meter.reading.held_dbfs == -200


def test_true_peak_is_found_across_blocks_and_kept():
    t = np.arange(RATE) / RATE
    sound = (0.5 * np.sin(2 * np.pi * RATE / 4 * t + np.pi / 4) * np.hanning(RATE))[:, None]
    meter = Meter(RATE, 1)
    feed(meter, sound, 997)
    assert meter.reading.true_peak_dbtp == pytest.approx(-6.02, abs=0.1)


def test_samples_over_full_scale_are_counted_in_every_channel():
    meter = Meter(RATE, 2)
    sound = np.zeros((1000, 2))
    sound[10:13, 0] = 1.2
    sound[500, 1] = -1.1
    sound[600] = 1.0
    feed(meter, sound)
    assert meter.reading.over == 4
    meter.reset()
    assert meter.reading.over == 0


def test_short_term_loudness_forgets_after_three_seconds():
    meter = Meter(RATE, 1)
    feed(meter, sine(997.0, 3.0, 0.5))
    assert meter.reading.short_term_lufs == pytest.approx(-9.03, abs=0.1)
    feed(meter, sine(997.0, 3.2, 0.05))
    assert meter.reading.short_term_lufs == pytest.approx(-29.03, abs=0.2)
    meter.feed(np.zeros((0, 1), np.float32))
