"""Treatments on the command line: the same code as the course in the window."""

import json

import numpy as np
import pytest
import soundfile

from tests.sounds import RATE, sine, voice, write
from umbrick.core.measure.loudness import LoudnessMeter


def level_db(wave, hz):
    spectrum = np.abs(np.fft.rfft(wave * np.hanning(len(wave))))
    return 20 * np.log10(spectrum[round(hz * len(wave) / RATE)] + 1e-12)


@pytest.fixture
def tones(tmp_path):
    sound = sine(50, 4.0, 0.2, channels=2) + sine(1000, 4.0, 0.2, channels=2) + sine(6000, 4.0, 0.2, channels=2)
    return write(tmp_path / "tones.wav", sound)


def test_a_filter_is_laid_over_all_of_it(umbrick, tones, tmp_path):
    out = tmp_path / "out.wav"
    cut = ("--method", "filter", "--at", "all", "--set", "shape=low_cut", "--set", "frequency_hz=200")
    status, said, _ = umbrick("mend", tones, out, *cut)
    assert status == 0
    assert "filter laid over it" in said
    before, after = soundfile.read(tones)[0], soundfile.read(out)[0]
    assert after.shape == before.shape
    for channel in (0, 1):
        assert level_db(after[:, channel], 50) < level_db(before[:, channel], 50) - 40
        for hz in (1000, 6000):
            assert level_db(after[:, channel], hz) == pytest.approx(level_db(before[:, channel], hz), abs=0.05)


def test_a_filter_over_spans_of_one_channel_leaves_all_else_bit_for_bit(umbrick, tones, tmp_path):
    out = tmp_path / "out.wav"
    bell = ("--set", "shape=bell", "--set", "frequency_hz=1000", "--set", "gain_db=-12", "--set", "ramp_ms=50")
    status, _, _ = umbrick(
        "mend", tones, out, "--method", "filter", "--at", "1s-1500ms,2.5s-3s", "--channels", "1", *bell
    )
    assert status == 0
    before, after = (soundfile.read(path, dtype="int32")[0] for path in (tones, out))
    assert np.array_equal(after[:, 0], before[:, 0])
    inside = np.zeros(len(before), bool)
    inside[RATE : 3 * RATE // 2] = inside[5 * RATE // 2 : 3 * RATE] = True
    assert np.array_equal(after[~inside, 1], before[~inside, 1])
    middle = slice(round(1.1 * RATE), round(1.4 * RATE))
    lower = level_db(before[middle, 1], 1000) - level_db(after[middle, 1], 1000)
    assert lower == pytest.approx(12, abs=0.3)


@pytest.mark.parametrize(("measure", "target"), [("peak", -6.0), ("true_peak", -9.0), ("loudness", -30.0)])
def test_the_level_is_brought_to_a_target(umbrick, tmp_path, measure, target):
    source, out = write(tmp_path / "v.wav", 0.3 * voice(4.0)), tmp_path / "out.wav"
    settings = ("--set", f"measure={measure}", "--set", f"target={target}")
    assert umbrick("mend", source, out, "--method", "normalize", "--at", "all", *settings)[0] == 0
    sound = soundfile.read(out, always_2d=True)[0]
    if measure == "loudness":
        meter = LoudnessMeter(RATE, 1)
        meter.feed(sound.astype(np.float32))
        assert meter.integrated_lufs() == pytest.approx(target, abs=0.1)
    else:
        assert 20 * np.log10(np.abs(sound).max()) == pytest.approx(target, abs=0.6 if measure == "true_peak" else 0.01)


def test_an_offset_is_taken_out_steady_or_drifting(umbrick, tmp_path):
    drift = 0.1 * np.sin(np.linspace(0, 3, 8 * RATE))[:, np.newaxis]
    source = write(tmp_path / "d.wav", 0.3 * voice(8.0) + drift)
    for drifting, limit in (("steady", 0.08), ("slow", 0.02)):
        out = tmp_path / f"{drifting}.wav"
        assert umbrick("mend", source, out, "--method", "dc", "--at", "all", "--set", f"drift={drifting}")[0] == 0
        sound = soundfile.read(out)[0]
        assert abs(sound.mean()) < (1e-4 if drifting == "steady" else 5e-3)
        assert max(abs(part.mean()) for part in np.array_split(sound, 8)) < limit


def test_what_passes_full_scale_is_lowered_to_fit_and_the_report_names_the_step(umbrick, tmp_path):
    source, out, report = write(tmp_path / "v.wav", 0.9 * voice(2.0)), tmp_path / "out.wav", tmp_path / "r.json"
    settings = ("--set", "measure=peak", "--set", "target=6")
    status, said, _ = umbrick(
        "mend", source, out, "--method", "normalize", "--at", "all", *settings, "--report", report, "--json"
    )
    assert status == 0
    told = json.loads(said)
    assert (told["mends"], told["cut_off_samples"]) == (1, 0)
    assert told["gain_db"] == pytest.approx(-6, abs=0.1)
    (step,) = json.loads(report.read_text())["recordings"][0]["mends"]
    assert (step["method"], step["is_course"], step["parameters"]["target"]) == ("normalize", True, 6.0)


@pytest.mark.parametrize(
    ("settings", "says"),
    [
        (("--method", "filter", "--set", "shape=tilt"), "shape is one of"),
        (("--method", "filter", "--set", "q=0"), "q is a number"),
        (("--method", "filter", "--set", "also=bell:nothing"), "is not a filter"),
        (("--method", "normalize", "--set", "target=loud"), "target is a number"),
    ],
)
def test_settings_that_make_no_sense_are_wrong_usage(umbrick, tones, tmp_path, settings, says):
    status, _, told = umbrick("mend", tones, tmp_path / "out.wav", "--at", "all", *settings)
    assert status == 2
    assert says in told
    assert not (tmp_path / "out.wav").exists()


def test_silence_that_cannot_be_levelled_is_told_and_nothing_is_written(umbrick, tmp_path):
    source = write(tmp_path / "silent.wav", np.zeros((RATE, 1)))
    status, _, told = umbrick("mend", source, tmp_path / "out.wav", "--method", "normalize", "--at", "all")
    assert status == 1
    assert "silence" in told
    assert not (tmp_path / "out.wav").exists()
