"""What a recording is like is no fault: few bits, little level, other rates; and a fault is one in all of them."""

import numpy as np
import pytest
import soxr

from tests.core.survey.test_kinds import AT, SPEECH, found, surveyed
from tests.sounds import RATE, rng
from umbrick.core.survey.tops.coarse_values import CoarseValues

TIMES = np.arange(6 * RATE) / RATE
LOW_NOTE = (0.4 + 0.1 * np.sin(0.37 * TIMES)) * np.sin(2 * np.pi * 27.53 * TIMES)
LOW_NOTE = LOW_NOTE[:, np.newaxis]
LOW_NOTE[: RATE // 2] *= np.linspace(0, 1, RATE // 2)[:, np.newaxis]
LOW_NOTE[-RATE // 2 :] *= np.linspace(1, 0, RATE // 2)[:, np.newaxis]
QUIET = 10 ** (-30 / 20)


@pytest.mark.parametrize("gain", [1.0, 0.25, QUIET])
@pytest.mark.parametrize("sound", [SPEECH, LOW_NOTE], ids=["speech", "low note"])
def test_sixteen_bits_make_no_faults_of_a_quiet_sound(sound, gain):
    assert surveyed(gain * sound, bits=16).sifted({}) == []


def test_a_slow_wave_that_rests_between_two_steps_has_not_dropped_out_but_what_is_held_has():
    slow = 0.02 * LOW_NOTE / 0.5
    assert found(slow, "dropout", bits=16) == []
    held = slow.copy()
    place = 3 * RATE + int(np.argmax(np.abs(np.diff(slow[3 * RATE :][:1800, 0]))))
    held[place : place + 240] = held[place - 1]
    (dropout,) = found(held, "dropout", bits=16)
    assert abs(dropout.start - place) <= 1
    assert abs(dropout.stop - place - 240) <= 2


def test_the_last_bit_in_digital_silence_is_no_click_but_what_is_heard_there_is():
    faint = SPEECH.copy()
    faint[4 * RATE : 6 * RATE] = 0
    faint[4 * RATE - 480 : 4 * RATE] *= np.linspace(1, 0, 480)[:, np.newaxis]
    faint[6 * RATE : 6 * RATE + 480] *= np.linspace(0, 1, 480)[:, np.newaxis]
    faint[5 * RATE :: 4801][:5] += 2.0**-15
    assert found(faint, "click", bits=16) == []
    faint[5 * RATE] = 20 * 2.0**-15
    assert [click.start for click in found(faint, "click", bits=16)] == [5 * RATE]


def test_what_repeats_in_a_pause_is_a_coders_and_what_repeats_in_sound_is_a_stutter():
    repeated, frame = SPEECH.copy(), 1152
    pause = slice(round(4.2 * RATE), round(4.2 * RATE) + 12 * frame)
    repeated[pause] = np.tile(1e-4 * rng(3).standard_normal((frame, 1)), (12, 1))
    assert [f for f in found(repeated, "stutter") if f.start < pause.stop and f.stop > pause.start] == []
    repeated[pause] *= 500
    (stutter,) = (f for f in found(repeated, "stutter") if f.start < pause.stop and f.stop > pause.start)
    assert stutter.detail["lag"] == frame


@pytest.mark.parametrize("gain", [1.0, QUIET])
def test_faults_of_a_quiet_recording_are_found_as_those_of_a_loud_one_are(gain):
    times = np.arange(len(SPEECH)) / RATE
    hum = sum(np.sin(2 * np.pi * 50.03 * number * times) / number for number in (1, 2, 3, 5))[:, np.newaxis]
    wrong = SPEECH + 0.002 * hum + 0.006
    wrong[AT : AT + 900] = 0
    listed = {finding.kind: finding for finding in surveyed(gain * wrong).sifted({})}
    assert set(listed) == {"dc_offset", "hum", "dropout"}
    assert listed["dc_offset"].detail["offset"] == pytest.approx(0.006 * gain, rel=0.1)
    assert listed["hum"].detail["fundamental_hz"] == pytest.approx(50.03, abs=0.02)
    assert (listed["dropout"].start, listed["dropout"].stop) == (AT, AT + 900)


@pytest.mark.parametrize("rate", [22050, 32000, 44100, 48000, 88200])
def test_a_held_note_is_no_intrusion_at_any_rate(rate):
    bowed = sum(
        np.sin(2 * np.pi * 330 * number * TIMES + 3 * np.sin(2 * np.pi * 5.2 * TIMES) * number / 8) / number
        for number in range(1, 12)
    )
    notes = np.sin(np.pi * TIMES / 6)[:, np.newaxis] * (0.08 * bowed[:, np.newaxis])
    assert found(soxr.resample(notes, RATE, rate), "intrusion", rate=rate) == []


def telephoned(sound, rail=1.0):
    """Return a sound as a telephone of eight bits carries it: the louder, the coarser (ITU-T G.711)."""
    wave = np.clip(soxr.resample(sound, RATE, 8000), -rail, rail)
    companded = np.sign(wave) * np.log1p(255 * np.abs(wave)) / np.log(256)
    companded = np.round(127 * companded) / 127
    return np.sign(companded) * (256 ** np.abs(companded) - 1) / 255


def test_eight_bits_of_a_telephone_are_neither_clipping_nor_dropouts_but_both_are_found_in_them():
    carried = telephoned(1.5 * SPEECH)
    assert found(carried, "clipping", bits=16, rate=8000) == []
    assert found(carried, "dropout", bits=16, rate=8000) == []
    cut_off = telephoned(2.5 * SPEECH, rail=0.3)
    assert len(found(cut_off, "clipping", bits=16, rate=8000)) > 20
    missing = carried.copy()
    missing[24400:24560] = 0
    (hole,) = found(missing, "dropout", bits=16, rate=8000)
    assert (hole.start, hole.stop) == (24400, 24560)


@pytest.mark.parametrize("values", [255, 257])
def test_values_are_coarse_as_long_as_eight_bits_tell_them_apart(values):
    coarse, wave = CoarseValues(), np.linspace(-1, 1, values, dtype=np.float32)
    coarse.feed(wave[:100])
    coarse.feed(wave)
    steps = coarse.step_at(np.array([-1.0, 0.0, 0.5, 1.0]))
    assert steps == pytest.approx([2 / 254] * 4 if values == 255 else [0] * 4, rel=1e-4)
    coarse.feed(rng(1).standard_normal(300).astype(np.float32))
    assert not coarse.step_at(wave).any()


def test_a_faint_hum_in_coarse_values_has_no_breaks():
    hum = np.where(np.arange(6 * 8000) % 186 < 64, 31, 38) / 32768
    assert found(hum[:, np.newaxis], "discontinuity", rate=8000, bits=16) == []
