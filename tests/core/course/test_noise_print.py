"""The print of noise that lies under sound: what sounds without pauses hides some of it, and is none itself."""

import numpy as np
import pytest
from scipy.signal import butter, sosfilt

from tests.sounds import RATE, rng
from umbrick.core.sound.source import ArraySource
from umbrick.core.spectral.grid import Grid
from umbrick.core.spectral.noise_print import estimated_print, finest, line_powers, measured_print

SECONDS = 12


def hummed():
    """A voice between 100 and 900 Hz that glides and never rests."""
    t = np.arange(SECONDS * RATE) / RATE
    phase = 2 * np.pi * np.cumsum(130 + 25 * np.sin(2 * np.pi * 0.9 * t)) / RATE
    swell = 0.55 + 0.45 * np.sin(2 * np.pi * 1.7 * t)
    return 0.1 * swell * sum(np.sin(k * phase) for k in range(1, 7))


def hissed():
    """Noise without pauses, whose colour changes all the time, as that of bowed strings close by does."""
    made, t = np.zeros(SECONDS * RATE), np.arange(SECONDS * RATE) / RATE
    for number, low in enumerate(50 * 2.0 ** np.arange(0, 8.5, 0.5)):
        band = sosfilt(butter(2, [low, 1.41 * low], "band", fs=RATE, output="sos"), rng(number).standard_normal(len(t)))
        made += band * (1.1 + np.sin(2 * np.pi * (0.4 + 0.13 * number) * t + number)) ** 2
    return 0.05 * made


def levels_db(estimate, wave):
    """Return the level from 150 to 800 Hz of a print of a wave."""
    (levels,) = estimate(ArraySource(wave[:, np.newaxis].astype(np.float32), RATE, "n"), [(0, len(wave))], [0])
    hz = np.fft.rfftfreq(finest(RATE).size, 1 / RATE)
    return 10 * np.log10(line_powers(levels, RATE, Grid(finest(RATE).size))[(hz > 150) & (hz < 800)].mean())


def test_noise_that_a_voice_hides_is_as_loud_as_beside_it():
    noise = 0.003 * rng(3).standard_normal(SECONDS * RATE)
    assert levels_db(estimated_print, noise + hummed()) == pytest.approx(levels_db(measured_print, noise), abs=2)


def test_sound_that_never_rests_is_hardly_taken_for_noise():
    assert levels_db(estimated_print, hissed()) < levels_db(measured_print, hissed()) - 20


def test_a_low_roar_that_never_rests_is_not_taken_for_noise():
    noise = 0.003 * rng(3).standard_normal(SECONDS * RATE)
    t = np.arange(SECONDS * RATE) / RATE
    roar = 0.03 * sum(np.sin(2 * np.pi * (60 + 5.2 * number) * t + number**2) for number in range(13))
    (levels,) = estimated_print(ArraySource((noise + roar)[:, np.newaxis].astype(np.float32), RATE, "n"),
                                [(0, SECONDS * RATE)], [0])  # fmt: skip
    (own,) = measured_print(ArraySource(roar[:, np.newaxis].astype(np.float32), RATE, "n"), [(0, SECONDS * RATE)], [0])
    at = round(92 * finest(RATE).size / RATE)
    assert levels[at] < own[at] - 15
    assert np.median(levels) == pytest.approx(10 * np.log10(0.003**2), abs=2)
