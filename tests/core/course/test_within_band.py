"""A step that is done in a band only."""

import numpy as np
import pytest

from tests.core.course.laying import RATE, heard, noise, opened, step_of, through
from umbrick.core.errors import ParameterError


def level_db(wave, low, high):
    power = np.abs(np.fft.rfft(wave * np.hanning(len(wave)))) ** 2
    hz = np.fft.rfftfreq(len(wave), 1 / RATE)
    return 10 * np.log10(power[(hz >= low) & (hz < high)].sum())


def test_what_a_step_does_stays_within_its_band():
    version = opened(noise(30_000, 1))
    step = step_of(version, "normalize", {"target": -40, "within_hz": "1000-2000"})
    before, after = heard(version)[:, 0].astype(float), heard(through(version, step))[:, 0].astype(float)
    whole = heard(through(version, step_of(version, "normalize", {"target": -40})))[:, 0].astype(float)
    for low, high in ((100, 850), (2150, 3900)):
        assert level_db(after - before, low, high) < level_db(before, low, high) - 45
    assert level_db(after, 1150, 1850) == pytest.approx(level_db(whole, 1150, 1850), abs=0.3)


def test_what_is_no_band_is_refused():
    version = opened(noise(3000, 1))
    with pytest.raises(ParameterError):
        step_of(version, "filter", {"within_hz": "2000-1000"})
