"""Every kind of fault, planted in sound that has none: found where it is, as what it is, and nothing else with it."""

import numpy as np
import pytest
import soxr
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.signal import butter, sosfiltfilt

from tests.sounds import RATE, faultless, on_grid, rng, sine, voice
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor


def surveyed(sound, rate=RATE, kinds=KINDS, bits=24):
    source = ArraySource(on_grid(sound, bits).astype(np.float32), rate, "s")
    return Surveyor(source, bits, [KINDS[name] for name in kinds]).run()


def found(sound, kind=None, rate=RATE, bits=24):
    findings = surveyed(sound, rate, bits=bits).sifted({})
    return [finding for finding in findings if kind in (None, finding.kind)]


def speech(seconds=8.0, seed=0):
    """Words of a third of a second with short pauses between, over a quiet room."""
    word, gap = round(0.34 * RATE), round(0.12 * RATE)
    sound = 0.0004 * rng(seed).standard_normal((round(seconds * RATE), 1))
    for number, start in enumerate(range(gap, len(sound) - word - gap, word + gap)):
        part = faultless(word / RATE, seed=seed + number)
        sound[start : start + len(part)] += 0.6 * part * np.hanning(len(part))[:, np.newaxis] ** 0.3
    return sound


SPEECH = speech()
TIMES = np.arange(6 * RATE) / RATE
NOTE = (0.4 + 0.05 * np.sin(2 * np.pi * 0.7 * TIMES)) * (
    np.sin(2 * np.pi * 233.3 * TIMES) + 0.2 * np.sin(2 * np.pi * 467.1 * TIMES)
)
NOTE = NOTE[:, np.newaxis]
NOTE[: RATE // 4] *= np.linspace(0, 1, RATE // 4)[:, np.newaxis]
NOTE[-RATE // 4 :] *= np.linspace(1, 0, RATE // 4)[:, np.newaxis]
AT = 3 * RATE + 3210


@pytest.mark.parametrize("rate", [8000, 44100, 96000])
@pytest.mark.parametrize("sound", [SPEECH, faultless(5.0)], ids=["speech", "vowel"])
def test_there_is_nothing_in_faultless_sound(sound, rate):
    assert found(soxr.resample(sound, RATE, rate), rate=rate) == []


@pytest.mark.parametrize("sound", [SPEECH, NOTE], ids=["speech", "note"])
@pytest.mark.parametrize("size", [0.3, -0.12])
def test_a_single_wrong_sample_is_found_to_the_sample(sound, size):
    wrong = sound.copy()
    wrong[AT] += size
    (click,) = found(wrong)
    assert (click.kind, click.start, click.stop) == ("click", AT, AT + 1)
    assert click.detail["spike"]
    assert click.confidence > 0.8


def test_a_wrong_sample_of_one_channel_is_told_of_that_channel():
    wrong = np.repeat(NOTE, 2, axis=1)
    wrong[AT, 1] -= 0.2
    (click,) = found(wrong)
    assert (click.channels, click.start) == ((1,), AT)


@pytest.mark.parametrize("frames", [16, 40, 120])
def test_a_tick_is_found_within_a_millisecond(frames):
    wrong = SPEECH.copy()
    tick = rng(5).standard_normal(frames) * np.exp(-3 * np.arange(frames) / frames)
    wrong[AT : AT + frames, 0] += 0.5 * tick / np.abs(tick).max()
    clicks = found(wrong, "click")
    assert len(clicks) == 1
    assert abs(clicks[0].start - AT) < RATE // 1000
    assert abs(clicks[0].stop - AT - frames) < RATE // 500


WORD_END = round(0.12 * RATE) + 5 * round(0.46 * RATE) + round(0.33 * RATE)


@pytest.mark.parametrize(("at", "frames"), [(AT, 2), (AT, 3), (AT, 6), (WORD_END, 3), (WORD_END, 4)])
def test_a_few_wrong_samples_in_a_row_are_one_click_also_where_a_word_ends(at, frames):
    wrong = SPEECH.copy()
    wrong[at : at + frames] += 0.3
    (click,) = found(wrong)
    assert click.kind == "click"
    assert abs(click.start - at) < RATE // 1000
    assert click.confidence > 0.8


def test_what_is_far_below_the_sound_around_is_covered_by_it():
    for size, is_listed in ((0.4 * 10 ** (-60 / 20), False), (0.4 * 10 ** (-30 / 20), True)):
        wrong = NOTE.copy()
        wrong[AT] += size
        assert bool(found(wrong)) == is_listed


def test_strokes_of_a_drum_are_no_clicks():
    t = np.arange(round(0.3 * RATE)) / RATE
    sound = 0.001 * rng(1).standard_normal((6 * RATE, 1))
    for number, start in enumerate(range(RATE // 4, 5 * RATE, RATE // 2)):
        hit = np.sin(2 * np.pi * (180 - 60 * t) * t) * np.exp(-t / 0.08)
        hit = hit + 0.6 * rng(number).standard_normal(len(t)) * np.exp(-t / 0.02)
        sound[start : start + len(t), 0] += 0.35 * hit * np.minimum(1, t / 0.0008)
    assert found(sound, "click") == []
    assert found(sound, "discontinuity") == []


def test_dense_ticks_are_one_stretch_of_crackle():
    wrong, random = SPEECH.copy(), rng(6)
    places = AT + random.integers(0, RATE // 2, 60)
    for at in places:
        size = random.integers(2, 20)
        wrong[at : at + size, 0] += 0.08 * random.standard_normal(size)
    (crackle,) = found(wrong, "crackle")
    assert found(wrong, "click") == found(wrong, "dropout") == []
    assert AT - RATE // 500 < crackle.start <= places.min()
    assert places.max() + 20 <= crackle.stop < places.max() + RATE // 500
    assert 60 < crackle.detail["per_second"] < 160


def test_a_smack_of_the_mouth_in_a_pause():
    wrong = SPEECH.copy()
    at = round(0.06 * RATE) + 7 * round(0.46 * RATE)
    t = np.arange(round(0.005 * RATE)) / RATE
    wrong[at : at + len(t), 0] += 0.04 * np.sin(2 * np.pi * 3300 * t) * np.exp(-t / 0.001)
    (smack,) = found(wrong)
    assert smack.kind == "mouth_click"
    assert abs(smack.start - at) < RATE // 500


@pytest.mark.parametrize("fill", ["zeros", "held", "faint"])
@pytest.mark.parametrize("milliseconds", [5, 30, 150])
def test_a_hole_is_found_to_the_sample(fill, milliseconds):
    wrong = voice(6.0, noise=0.001)[:]
    length = milliseconds * RATE // 1000
    if fill == "zeros":
        wrong[AT : AT + length] = 0
    elif fill == "held":
        wrong[AT : AT + length] = wrong[AT - 1]
    else:
        wrong[AT : AT + length] *= 0.004
    (hole,) = found(wrong, "dropout")
    assert abs(hole.start - AT) <= 2
    assert abs(hole.stop - AT - length) <= 2
    assert not found(wrong, "click")


def test_pauses_are_no_holes():
    wrong = SPEECH.copy()
    speaks = np.convolve(np.abs(wrong[:, 0]) > 0.01, np.hanning(1000) / np.hanning(1000).sum(), "same")
    wrong *= np.clip(4 * speaks, 0, 1)[:, np.newaxis] ** 2  # a gate
    assert found(wrong, "dropout") == []


def test_a_missing_stretch_is_a_break_in_the_wave():
    wrong = np.concatenate([NOTE[:AT], NOTE[AT + 97 :]])
    (cut,) = found(wrong)
    assert cut.kind == "discontinuity"
    assert abs(cut.start - AT) < RATE // 1000


@settings(deadline=None, max_examples=12)
@given(st.integers(RATE, 4 * RATE), st.integers(800, 9000), st.integers(1, 2))
def test_a_block_that_comes_again_is_found_to_the_sample(at, block, times):
    sound = faultless(6.0)
    wrong = np.concatenate([sound[:at], *[sound[at - block : at]] * times, sound[at:]])
    stutters = found(wrong, "stutter")
    assert [(s.start, s.stop, s.detail["lag"]) for s in stutters] == [(at, at + times * block, block)]


def test_a_held_cycle_that_fades_is_a_stutter_and_a_held_note_is_none():
    wrong, cycle = SPEECH.copy(), 335
    at = round(0.12 * RATE) + 6 * round(0.46 * RATE) + round(0.15 * RATE)
    length = round(0.06 * RATE)
    held = np.tile(wrong[at - cycle : at], (length // cycle + 1, 1))[:length]
    wrong[at : at + length] = held * np.linspace(1, 0.4, length)[:, np.newaxis]
    stutters = found(wrong, "stutter")
    assert len(stutters) == 1
    assert abs(stutters[0].start - at) < 0.015 * RATE
    assert abs(stutters[0].detail["lag"] - cycle) <= 1
    assert found(NOTE, "stutter") == []


@pytest.mark.parametrize("left", [0.5, 0.15])
def test_a_cycle_of_a_hiss_that_goes_round_is_found_from_its_start_however_it_fades(left):
    wrong, cycle = SPEECH.copy(), 520
    at = round(0.12 * RATE) + 8 * round(0.46 * RATE) + round(0.1 * RATE)
    length = round(0.08 * RATE)
    hiss = 0.1 * rng(4).standard_normal((cycle, 1))
    held = np.tile(hiss, (length // cycle + 1, 1))[:length]
    wrong[at : at + length] = held * np.linspace(1, left, length)[:, np.newaxis]
    (stutter,) = found(wrong, "stutter")
    assert abs(stutter.start - at - cycle) < 0.012 * RATE
    assert abs(stutter.stop - at - length) < 0.004 * RATE
    assert abs(stutter.detail["lag"] - cycle) <= 1


def restarted():
    """Words of which the tenth is the ninth once more, a little faster."""
    sound = 0.0004 * rng(3).standard_normal((9 * RATE, 1))
    word = round(0.4 * RATE)
    for number, start in enumerate(range(RATE // 4, 8 * RATE, RATE // 2)):
        again = number == 9
        t = np.arange(word) / RATE * (1.03 if again else 1.0)
        shape = rng(8 if again else number)
        centres = np.interp(t, np.linspace(0, 0.42, 5), shape.uniform(400, 3500, 5))
        levels = np.interp(t, np.linspace(0, 0.42, 5), shape.uniform(0.1, 1, 5))
        pitch = 2 * np.pi * np.cumsum(135 + 20 * np.sin(7 * t + number)) / RATE
        voiced = sum(np.exp(-(((135 * k - centres) / 500) ** 2)) * np.sin(k * pitch + k) for k in range(1, 28))
        sound[start : start + word, 0] += 0.15 * levels * voiced * np.hanning(word) ** 0.3
    return sound


def test_a_speaker_who_starts_over_is_doubtful_and_not_listed_at_once():
    sound = restarted()
    doubtful = [f for f in surveyed(sound).table.findings if f.kind == "stutter" and f.detail.get("restart")]
    assert any(abs(f.start - (RATE // 4 + 9 * RATE // 2)) < 0.15 * RATE for f in doubtful)
    assert all("started over" in f.evidence and f.confidence <= 0.4 for f in doubtful)
    assert found(sound, "stutter") == []


@pytest.mark.parametrize(("size", "is_listed"), [(0.6, True), (0.006, False)])
def test_a_popped_p_is_a_thump_below_the_voice_but_not_what_a_filter_has_left_of_it(size, is_listed):
    wrong = sosfiltfilt(butter(4, 250, "highpass", fs=RATE, output="sos"), SPEECH, axis=0)
    at = round(0.12 * RATE) + 6 * round(0.46 * RATE)
    t = np.arange(round(0.08 * RATE)) / RATE
    thump = np.sin(2 * np.pi * (85 - 200 * t) * t) * np.exp(-t / 0.022) * np.minimum(1, t / 0.004)
    wrong[at : at + len(t), 0] += size * thump
    pops = found(wrong, "plosive")
    assert len(pops) == is_listed
    assert all(abs(pop.start - at) < 0.015 * RATE for pop in pops)


def test_one_hiss_of_an_s_far_brighter_than_the_others():
    wrong = SPEECH.copy()
    for number in range(8):
        at = round(0.12 * RATE) + 2 * number * round(0.46 * RATE)
        bright = np.diff(rng(number).standard_normal(round(0.09 * RATE) + 2), 2) * np.hanning(round(0.09 * RATE))
        wrong[at : at + len(bright), 0] += (0.12 if number == 5 else 0.015) * bright
    places = [(s.start, s.stop) for s in found(wrong, "sibilance")]
    assert len(places) == 1
    assert places[0][0] < round(0.165 * RATE) + 10 * round(0.46 * RATE) < places[0][1]


@pytest.mark.parametrize("fundamental", [49.96, 50.03, 60.02])
def test_hum_is_measured_to_two_hundredths_of_a_hertz(fundamental):
    sound = speech(12.0)
    t = np.arange(len(sound)) / RATE
    hum = sum(level * np.sin(2 * np.pi * fundamental * k * t + k) for k, level in enumerate((1, 0.5, 0.7, 0.2, 0.3), 1))
    (finding,) = found(sound + 0.002 * hum[:, np.newaxis], "hum")
    assert (finding.start, finding.stop) == (0, len(sound))
    assert abs(finding.detail["fundamental_hz"] - fundamental) <= 0.02
    assert [line["number"] for line in finding.detail["harmonics"]][:3] == [1, 2, 3]
    measures = surveyed(sound + 0.002 * hum[:, np.newaxis], kinds=["hum"]).measures({})
    assert measures.hum_hz == pytest.approx(fundamental, abs=0.02)


def mains(times, number_levels=((1, 1.0), (2, 0.5), (3, 0.7), (4, 0.2))):
    return sum(level * np.sin(2 * np.pi * 50.04 * number * times + number) for number, level in number_levels)


def drums(seconds, seed):
    """Return strokes of low drums, four a second, that leave no pause."""
    random, times = rng(seed), np.arange(round(seconds * RATE)) / RATE
    sound = np.zeros(len(times))
    for start in np.arange(0, seconds, 0.25):
        since = np.maximum(times - start, 0)
        bass = random.uniform(0.1, 0.3) * np.sin(2 * np.pi * random.uniform(40, 120) * since) * np.exp(-since / 0.15)
        skin = 0.1 * random.standard_normal(len(times)) * np.exp(-since / 0.05)
        sound += (times >= start) * (bass + skin)
    return sound


@pytest.mark.parametrize("seed", [1, 2])
def test_faint_hum_shows_through_the_strokes_of_drums_and_their_beat_is_none(seed):
    sound = drums(10.0, seed)
    hum = mains(np.arange(len(sound)) / RATE)
    hum *= sound.std() / hum.std() * 10 ** (-34 / 20)
    assert found(sound[:, np.newaxis], "hum") == []
    (finding,) = found((sound + hum)[:, np.newaxis], "hum")
    assert finding.detail["fundamental_hz"] == pytest.approx(50.04, abs=0.02)


def test_a_string_of_the_mains_pitch_that_is_plucked_again_and_again_is_no_hum():
    sound = speech(10.0)
    times = np.arange(len(sound)) / RATE
    plucked = 0.02 * mains(times) * np.exp(-(times % 2.0) / 0.2)
    assert found(sound + plucked[:, np.newaxis], "hum") == []


def test_hiss_is_told_with_its_level():
    noisy = SPEECH + 0.004 * rng(8).standard_normal(SPEECH.shape)
    (hiss,) = found(noisy, "hiss")
    assert hiss.detail["level_dbfs"] == pytest.approx(20 * np.log10(0.004), abs=3)


@pytest.mark.parametrize("form", ["beep", "whistle"])
def test_a_foreign_call_is_found_with_its_band(form):
    wrong, length = SPEECH.copy(), round(1.2 * RATE)
    t = np.arange(length) / RATE
    wave = np.sin(2 * np.pi * (2600 * t + (0 if form == "beep" else 150 * t**2)))
    wave *= np.minimum(1, t / 0.02) * np.minimum(1, (t[-1] - t) / 0.02)
    wrong[AT : AT + length, 0] += 0.08 * wave
    calls = found(wrong, "intrusion")
    assert len(calls) == 1
    assert abs(calls[0].start - AT) < 0.07 * RATE
    assert abs(calls[0].stop - AT - length) < 0.07 * RATE
    low, high = calls[0].detail["band_hz"]
    assert low <= 2620
    assert 2580 <= high < 3100


def test_one_word_that_sticks_out_and_a_part_that_is_quieter():
    loud = 0.2 * SPEECH
    word = slice(round(0.12 * RATE) + 8 * round(0.46 * RATE), round(0.46 * RATE) + 8 * round(0.46 * RATE))
    loud[word] *= 4
    (peak,) = found(loud, "peak")
    assert peak.start < word.stop
    assert peak.stop > word.start
    assert peak.detail["excess_db"] == pytest.approx(12, abs=2)
    long = speech(16.0)
    long[8 * RATE :] *= 0.25
    (step,) = found(long, "level_step")
    assert abs(step.start - 8 * RATE) < 0.02 * RATE
    assert step.detail["change_db"] == pytest.approx(-12, abs=2)


def test_another_way_of_playing_is_no_level_step():
    seconds = 16.0
    loud = 0.1 * rng(4).standard_normal((round(seconds * RATE), 1))
    gain = np.ones(len(loud))
    gain[8 * RATE :] = 0.2
    assert [step.start // RATE for step in found(loud * gain[:, np.newaxis], "level_step")] in ([7], [8])
    other = loud * gain[:, np.newaxis]
    # As loud as with the gain, but only the lows are left of it, and more of them.
    spectrum = np.fft.rfft(loud[8 * RATE :, 0])
    hz = np.fft.rfftfreq(len(loud) - 8 * RATE, 1 / RATE)
    other[8 * RATE :, 0] = 1.8 * np.fft.irfft(spectrum / (1 + (hz / 300) ** 2), len(loud) - 8 * RATE)
    assert found(other, "level_step") == []


def test_an_offset_and_hard_edges():
    (offset,) = found(0.8 * SPEECH + 0.01, "dc_offset")
    assert offset.detail["offset"] == pytest.approx(0.01, abs=5e-4)
    cut = NOTE[RATE : 3 * RATE + 77]
    assert [(edge.start, edge.stop) for edge in found(cut, "hard_edge")] == [(0, 1), (len(cut) - 1, len(cut))]


@pytest.mark.parametrize("rate", [8000, 48000, 192000])
@pytest.mark.parametrize("channels", [1, 2, 12])
@pytest.mark.parametrize("frames", [1, 2, 77, 5000])
def test_any_shape_of_sound_can_be_surveyed(rate, channels, frames):
    for sound in (np.zeros((frames, channels)), rng(1).uniform(-1, 1, (frames, channels))):
        for finding in surveyed(sound, rate).table.findings:
            assert 0 <= finding.start < finding.stop <= frames
            assert 0 <= finding.severity <= 1
            assert 0.05 <= finding.confidence <= 1


def test_samples_of_absurd_size_do_no_harm():
    sound = sine(seconds=1.0)
    sound[20000] = 1e30
    source = ArraySource(sound.astype(np.float32), RATE, "s")
    Surveyor(source, None, list(KINDS.values())).run()


@settings(max_examples=8, deadline=None)
@given(st.floats(0.1, 1.6))
def test_how_loud_a_recording_is_says_nothing_of_its_clicks(gain):
    wrong = 0.6 * SPEECH
    wrong[AT, 0] += 0.2
    tick = rng(5).standard_normal(40) * np.exp(-3 * np.arange(40) / 40)
    wrong[AT + RATE : AT + RATE + 40, 0] += 0.3 * tick / np.abs(tick).max()
    kinds = ("click", "mouth_click", "discontinuity")
    usual, other = (surveyed(sound, kinds=kinds).table.findings for sound in (wrong, gain * wrong))
    usual, other = ([f for f in found if f.confidence >= 0.3] for found in (usual, other))
    assert [(f.kind, f.start, f.stop) for f in other] == [(f.kind, f.start, f.stop) for f in usual]
    assert [f.confidence for f in other] == pytest.approx([f.confidence for f in usual], abs=0.1)


def ticking(at):
    """A quiet room with ticks at given places."""
    sound = 0.0005 * rng(3).standard_normal((6 * RATE, 1))
    for place in at:
        sound[place : place + 3, 0] += (0.05, -0.03, 0.01)
    return sound


def test_ticks_at_random_are_crackle_and_as_many_at_a_pitch_are_not():
    count = 110
    at_random = np.sort(rng(4).integers(2 * RATE, 3 * RATE, count))
    at_a_pitch = 2 * RATE + np.arange(count) * (RATE // count) + rng(5).integers(-12, 13, count)
    assert len(found(ticking(at_random), "crackle")) == 1
    assert found(ticking(at_a_pitch), "crackle") == []


@pytest.mark.parametrize(("offset", "expected"), [(0.004, 1), (0.0, 0)])
def test_an_offset_is_told_from_loud_bass(offset, expected):
    bass = (
        0.4 * np.sin(2 * np.pi * 41.3 * TIMES)[:, np.newaxis] * np.abs(np.sin(2 * np.pi * 1.1 * TIMES))[:, np.newaxis]
    )
    offsets = found(bass + offset, "dc_offset")
    assert len(offsets) == expected
    assert all(finding.detail["offset"] == pytest.approx(offset, abs=2e-4) for finding in offsets)


def test_an_offset_shows_between_the_strokes_of_a_drum_that_swings_far_to_one_side():
    times = np.arange(8 * RATE) / RATE
    strokes = -0.08 * np.exp(-(times % 2.1) / 0.12) * (times % 2.1 < 1) + 0.3 * ticking_low(times)
    (offset,) = found((strokes - strokes.mean() + 0.004)[:, np.newaxis], "dc_offset")
    assert offset.detail["offset"] == pytest.approx(0.004, abs=1e-3)
    assert found((strokes - strokes.mean())[:, np.newaxis], "dc_offset") == []


def ticking_low(times):
    return np.sin(2 * np.pi * 70 * times) * np.exp(-(times % 2.1) / 0.1)


@pytest.mark.parametrize("seconds", [0.12, 0.3, 0.7, 1.3])
def test_an_offset_of_a_single_stroke_is_found_and_a_few_samples_have_none(seconds):
    t = np.arange(round(seconds * RATE))[:, np.newaxis] / RATE
    stroke = 0.5 * np.sin(2 * np.pi * 180 * t) * np.exp(-t / 0.1)
    assert [f.kind for f in surveyed(stroke + 0.03, kinds=["dc_offset"]).sifted({})] == ["dc_offset"]
    assert surveyed(stroke, kinds=["dc_offset"]).sifted({}) == []
    assert surveyed(stroke[:50] + 0.03, kinds=["dc_offset"]).sifted({}) == []


def test_a_whistle_over_a_faint_tone_of_its_pitch_is_told_from_its_own_start_to_its_own_end():
    wrong = SPEECH.copy()
    wrong += 0.0012 * sine(2300.0, len(wrong) / RATE, level=1.0)
    at, length = 3 * RATE, RATE
    ramp = np.minimum(1, np.minimum(np.arange(length), np.arange(length)[::-1]) / (0.02 * RATE))
    wrong[at : at + length] += 0.08 * sine(2300.0, 1.0, level=1.0) * ramp[:, np.newaxis]
    (call,) = found(wrong, "intrusion")
    assert abs(call.start - at) < 0.1 * RATE
    assert abs(call.stop - at - length) < 0.1 * RATE


def test_notes_of_many_harmonics_are_no_intrusions_and_one_whistle_among_them_is():
    sound = 0.0003 * rng(6).standard_normal((9 * RATE, 1))
    for number in range(16):
        t = np.arange(round(0.5 * RATE)) / RATE
        pitch = 220 * 2 ** ((number * 11 % 12) / 12)
        note = sum(np.sin(2 * np.pi * k * pitch * t) / k for k in range(1, 12))
        start = round((0.2 + 0.52 * number) * RATE)
        sound[start : start + len(t), 0] += 0.1 * note * np.minimum(1, t / 0.01) * np.exp(-t / 0.3)
    assert found(sound, "intrusion") == []
    t = np.arange(round(1.5 * RATE)) / RATE
    whistle = np.minimum(1, t / 0.03) * np.minimum(1, (t[-1] - t) / 0.03) * np.sin(2 * np.pi * 3130 * t)
    sound[4 * RATE : 4 * RATE + len(t), 0] += 0.1 * whistle
    (call,) = found(sound, "intrusion")
    low, high = call.detail["band_hz"]
    assert low == pytest.approx(3130, abs=40)
    assert high < 3300
