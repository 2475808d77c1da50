"""Clipping whose level was moved afterwards, and clipping that a coder roughened."""

import io

import numpy as np
import pytest
import soundfile

from tests.sounds import RATE, clipped, sine, voice
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor


def survey(sound, bits=24):
    kept = np.round(sound * 2.0 ** (bits - 1)) / 2.0 ** (bits - 1)
    return Surveyor(ArraySource(kept.astype(np.float32), RATE, "s"), bits, [KINDS["clipping"]]).run()


def marked(findings, frames):
    mask = np.zeros((frames, 1), bool)
    for finding in findings:
        mask[finding.start : finding.stop] = True
    return mask


def controlled(sound):
    """Return the gain of a control that turns down within 50 ms and up within a second, at every hundredth."""
    hop = RATE // 100
    gain, gains = 1.0, []
    for part in np.split(np.abs(sound[:, 0]), len(sound) // hop):
        wanted = min(1.5, 0.4 / max(part.max(), 0.05))
        gain += (wanted - gain) * (0.2 if wanted < gain else 0.01)
        gains.append(gain)
    return 0.8 * np.interp(np.arange(len(sound)), np.arange(len(gains)) * hop, gains)[:, np.newaxis]


@pytest.mark.parametrize("bits", [16, 24])
def test_clipping_before_a_gain_control_is_found(bits):
    sound, _, mask = clipped(voice(8.0), 0.03)
    found = survey(sound * controlled(sound), bits).sifted({})
    hit = marked(found, len(sound))
    assert hit[mask].mean() > 0.7
    assert mask[hit].mean() > 0.95


@pytest.mark.parametrize("sound", [voice(8.0, level=0.9), sine(61.7, seconds=4)], ids=["voice", "low tone"])
@pytest.mark.parametrize("bits", [16, 24])
def test_a_gain_control_alone_clips_nothing(sound, bits):
    assert survey(sound * controlled(sound), bits).sifted({}) == []


def test_clipping_that_was_coded_is_marked_through_and_through():
    sound, _, mask = clipped(voice(8.0), 0.05)
    file = io.BytesIO()
    soundfile.write(file, 0.7 * sound, RATE, format="MP3", compression_level=0.6)
    file.seek(0)
    coded = soundfile.read(file, always_2d=True)[0][: len(sound)]
    surveyed = survey(coded)
    hit = marked(surveyed.sifted({}), len(coded))
    assert hit[mask[: len(coded)]].mean() > 0.4
    assert surveyed.measures({}).prognosis.grade != "good"
    runs = np.diff(np.flatnonzero(np.diff(hit[:, 0].astype(int), prepend=0, append=0)).reshape(-1, 2), axis=1)
    planted = np.diff(np.flatnonzero(np.diff(mask[:, 0].astype(int), prepend=0, append=0)).reshape(-1, 2), axis=1)
    assert len(runs) < 1.5 * len(planted)
