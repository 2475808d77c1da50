"""Recordings of one event on one clock."""

import numpy as np
import pytest
import soxr
from hypothesis import given
from hypothesis import strategies as st
from scipy.signal import butter, fftconvolve, sosfilt

from tests.sounds import RATE, rng
from umbrick.core.linking.alignment import NotOneEventError, align
from umbrick.core.linking.clock import Clock
from umbrick.core.linking.together import align_all
from umbrick.core.sound.recording import open_recording
from umbrick.core.sound.source import ArraySource
from umbrick.demo import recordings

SECONDS = 24.0


def event(seconds=SECONDS, seed=0):
    """Something that goes on without repeating: a tune that nobody knows, and knocks."""
    random = rng(seed)
    steps = np.repeat(random.uniform(110, 440, round(4 * seconds) + 1), RATE // 4)[: round(seconds * RATE)]
    phase = 2 * np.pi * np.cumsum(steps) / RATE
    sound = 0.2 * sum(np.sin(number * phase) / number for number in range(1, 12))
    for at in random.integers(0, len(sound) - 4800, round(seconds * 2)):
        sound[at : at + 4800] += (
            random.standard_normal(4800) * np.exp(-np.arange(4800) / 700) * random.uniform(0.1, 0.5)
        )
    return sound


def microphone(sound, seed, delay=0):
    """One microphone of a room: its own band, its own reflections, and noise 6 dB below the sound."""
    random = rng(seed)
    heard = sosfilt(butter(1, (60 + 40 * seed, 9000 + 2000 * seed), "bandpass", fs=RATE, output="sos"), sound)
    tail = random.standard_normal(9600) * np.exp(-np.arange(9600) / 2400)
    tail[:200] = 0
    heard = heard + 0.5 * fftconvolve(heard, tail / np.sqrt(np.sum(tail**2)))[: len(heard)]
    heard = np.concatenate([np.zeros(delay), heard])[: len(heard)]
    return heard + 0.5 * heard.std() * random.standard_normal(len(heard))


def source(sound, rate=RATE, key="a"):
    return ArraySource(sound.astype(np.float32), rate, key)


@pytest.mark.parametrize("offset", [-9.71, -0.0213, 0.0, 3.333, 8.9])
def test_offsets_are_found_to_the_sample(offset):
    whole, frames = event(), round(offset * RATE)
    first = microphone(whole[max(0, frames) :], 1)
    other = microphone(whole[max(0, -frames) :], 2)
    clock = align(source(first), source(other))
    assert abs(clock.offset_frames - frames) <= 1.0
    assert abs(clock.drift_ppm) < 3
    assert clock.confidence > 0.5


def test_a_clock_that_drifts_is_measured():
    whole, ppm = event(60.0), 40.0
    other = soxr.resample(microphone(whole[4800:], 2), 1e6, 1e6 * (1 + ppm * 1e-6), quality="VHQ")
    clock = align(source(microphone(whole, 1)), source(other))
    assert abs(clock.drift_ppm - ppm) < 0.5
    assert abs(clock.offset_frames + 4800 * (1 + ppm * 1e-6)) <= 1.0


def test_other_rates_and_lengths_are_no_matter():
    whole = event(30.0)
    short = soxr.resample(whole[10 * RATE : 18 * RATE], RATE, 32000)
    clock = align(source(whole), source(short, 32000))
    assert abs(clock.offset_frames + 10 * 32000) <= 1.0
    back = align(source(short, 32000), source(whole))
    assert abs(back.offset_frames - 10 * RATE) <= 1.0


@pytest.mark.parametrize("make", [
    lambda: event(seed=9),
    lambda: rng(4).standard_normal(RATE * 10) * 0.1,
    lambda: np.zeros(RATE * 4),
    lambda: np.zeros(1),
    lambda: np.sin(np.arange(10 * RATE) * 0.05),
])  # fmt: skip
def test_other_events_are_told(make):
    with pytest.raises(NotOneEventError, match="not recordings of the same event"):
        align(source(event(12.0)), source(make()))


def test_a_recording_that_misses_the_first_is_placed_by_another():
    whole = event(40.0)
    parts = [whole[: 18 * RATE], whole[8 * RATE : 34 * RATE], whole[22 * RATE :], event(10.0, seed=7)]
    placed = align_all([(str(number), source(part)) for number, part in enumerate(parts)])
    assert [place.clock is not None for place in placed] == [True, True, True, False]
    assert abs(placed[1].clock.offset_frames + 8 * RATE) <= 1
    assert abs(placed[2].clock.offset_frames + 22 * RATE) <= 2
    assert "not recordings of the same event" in placed[3].why


@given(st.integers(8000, 192000), st.floats(-1e7, 1e7), st.floats(-500, 500), st.floats(-1e5, 1e5))
def test_moments_and_frames_invert(rate, offset, drift, seconds):
    clock = Clock(rate, offset, drift)
    assert clock.seconds_at(clock.frame_at(seconds)) == pytest.approx(seconds, abs=1e-6)


def test_tones_that_are_alike_by_chance_are_no_event(tmp_path):
    paths = {path.stem: path for path in recordings()}
    opened = [open_recording(paths[name], tmp_path) for name in ("choir-left", "lock-bell")]
    with pytest.raises(NotOneEventError):
        align(*(recording.source for recording in opened))
    for recording in opened:
        recording.close()


def test_the_choir_is_put_on_one_clock(tmp_path):
    paths = {path.stem: path for path in recordings()}
    opened = [open_recording(paths[f"choir-{name}"], tmp_path) for name in ("left", "right", "spot")]
    placed = align_all([(recording.path.name, recording.source) for recording in opened])
    # Each part of the choir takes its own way through the air to each microphone: some milliseconds.
    for place, earlier in zip(placed, (0.0, 0.35, -0.62), strict=True):
        assert abs(place.clock.offset_frames / 44100 - earlier) < 0.012
        assert abs(place.clock.drift_ppm) < 1
    for recording in opened:
        recording.close()
