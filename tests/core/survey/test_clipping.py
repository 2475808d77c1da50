import numpy as np
import pytest

from tests.sounds import RATE, chord, clipped, on_grid, rng, runs, sine, voice
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey.detector import Format
from umbrick.core.survey.kinds.clipping import ClippingDetector
from umbrick.core.survey.streaming import blocks


def survey(sound, rate=RATE, bits=24):
    sound = on_grid(sound, bits) if bits else sound
    detector = ClippingDetector(Format(rate, sound.shape[1], 2.0 ** (1 - bits) if bits else 0.0))
    for block in blocks(ArraySource(sound, rate, "s")):
        detector.feed(block)
    return [finding for finding in detector.findings() if finding.confidence >= 0.5]


def marked(findings, shape):
    mask = np.zeros(shape, bool)
    for finding in findings:
        mask[finding.start : finding.stop, list(finding.channels)] = True
    return mask


def scores(findings, mask):
    found = marked(findings, mask.shape)
    hits = np.count_nonzero(found & mask)
    return hits / max(1, np.count_nonzero(mask)), hits / max(1, np.count_nonzero(found))


@pytest.mark.parametrize("rail", [0.99, 0.7, 0.25])
@pytest.mark.parametrize("bits", [16, 24, None])
@pytest.mark.parametrize("seed", [1, 2])
def test_clipping_is_found_at_any_level_and_depth(rail, bits, seed):
    sound, _, mask = clipped(voice(4.0, seed=seed), 0.005, rail)
    recall, precision = scores(survey(sound, bits=bits), mask)
    assert recall >= 0.98
    assert precision >= 0.98


def test_one_side_only_is_found_on_that_side():
    truth = voice(4.0) * 1.9
    sound = np.minimum(truth, 0.8)
    findings = survey(sound)
    assert {finding.detail["side"] for finding in findings} == {"upper"}
    recall, precision = scores(findings, truth > 0.8)
    assert recall >= 0.98
    assert precision >= 0.98


def test_one_channel_only_is_found_in_that_channel():
    left, _, mask = clipped(voice(4.0), 0.01)
    sound = np.hstack([0.5 * voice(4.0, seed=3), left])
    findings = survey(sound)
    assert {finding.channels for finding in findings} == {(1,)}
    assert scores(findings, np.hstack([np.zeros_like(mask), mask]))[0] >= 0.98


def test_a_rail_that_moves_because_the_level_was_changed_is_followed():
    sound, _, mask = clipped(voice(6.0), 0.01)
    fade = np.linspace(1.0, 0.4, len(sound))[:, np.newaxis]
    recall, precision = scores(survey(sound * fade), mask)
    assert recall >= 0.9
    assert precision >= 0.95


def test_all_of_a_top_counts_that_was_dithered_at_full_scale():
    sound, _, mask = clipped(voice(4.0), 0.02, 1.0)
    random = rng(4)
    dithered = sound + (random.random(sound.shape) - random.random(sound.shape)) * 2.0**-15
    recall, precision = scores(survey(dithered, bits=16), mask)
    assert recall >= 0.995
    assert precision >= 0.98


def test_what_is_clipped_nearly_all_the_time_is_no_square_wave():
    sound, _, mask = clipped(voice(4.0), 0.9, 0.9)
    recall, precision = scores(survey(sound, bits=16), mask)
    assert recall >= 0.98
    assert precision >= 0.98


def test_a_file_turned_down_and_dithered_is_found():
    sound, _, mask = clipped(voice(4.0), 0.01)
    random = rng(5)
    dithered = sound * 0.6 + (random.random(sound.shape) - random.random(sound.shape)) * 2.0**-15
    recall, precision = scores(survey(dithered, bits=16), mask)
    assert recall >= 0.9
    assert precision >= 0.9


def test_tops_roughened_by_lossy_coding_are_found():
    sound, _, mask = clipped(voice(8.0), 0.03)
    random = rng(6)
    roughened = sound + 0.004 * random.standard_normal(sound.shape)
    found = marked(survey(roughened), mask.shape)
    near = np.convolve(mask[:, 0], np.ones(5), "same") > 0
    assert np.count_nonzero(found[:, 0] & mask[:, 0]) > 0.5 * np.count_nonzero(mask)
    assert np.count_nonzero(found[:, 0] & near) > 0.8 * np.count_nonzero(found)


def _square(level, edges=0.0):
    t = np.arange(3 * RATE) / RATE
    wave = np.sign(np.sin(2 * np.pi * 220 * t))
    if edges:
        wave = np.tanh(np.sin(2 * np.pi * 220 * t) / edges)
    return level * wave[:, np.newaxis]


@pytest.mark.parametrize(
    "sound",
    [
        voice(6.0),
        voice(6.0, level=0.999),
        chord(3.0, level=0.999),
        sine(level=0.9999, seconds=3),
        sine(61.7, level=0.99, seconds=3),
        sine(12000.0, level=0.99, seconds=3),
        _square(0.1),
        _square(0.1, edges=0.05),
        np.zeros((RATE, 2)),
        0.0001 * rng(1).standard_normal((RATE, 1)),
        0.19 * rng(2).standard_normal((3 * RATE, 1)),
        np.full((RATE, 1), 0.5),
        np.zeros((1, 1)),
        np.array([[0.5], [-0.5]]),
    ],
    ids=["voice", "loud voice", "chord", "loud sine", "low sine", "high sine", "square", "soft square", "silence",
         "quiet noise", "loud noise", "constant", "one sample", "two samples"],
)  # fmt: skip
@pytest.mark.parametrize("bits", [16, 24])
def test_clean_sound_has_no_findings(sound, bits):
    assert survey(sound, bits=bits) == []


@pytest.mark.parametrize("rate", [8000, 96000])
def test_other_rates(rate):
    sound, _, mask = clipped(voice(4.0, rate=rate), 0.01)
    recall, precision = scores(survey(sound, rate), mask)
    assert recall >= 0.98
    assert precision >= 0.98


def test_a_finding_says_what_was_measured():
    sound, _, mask = clipped(voice(3.0), 0.01, rail=0.9886)
    findings = survey(sound)
    first = findings[0]
    for finding, (start, stop) in zip(findings, runs(mask[:, 0]), strict=True):
        # A neighbour that only just reached the rail counts as on it once it is rounded to 24 bit.
        assert abs(finding.start - start) <= 1
        assert abs(finding.stop - stop) <= 1
    length = first.stop - first.start
    assert first.evidence.startswith(f"{length} flat sample")
    assert "−0.1 dBFS" in first.evidence
    assert ("lower side" in first.evidence) == (sound[first.start, 0] < 0)
    longest = max(findings, key=lambda f: f.stop - f.start)
    shortest = min(findings, key=lambda f: f.stop - f.start)
    assert 0 <= shortest.severity < longest.severity <= 1
    assert all(0.9 < finding.confidence <= 1 for finding in findings)


def test_clipping_across_the_border_of_two_blocks_is_one_finding():
    sound = np.tile(voice(4.0, seed=4), (2, 1))
    sound, _, mask = clipped(sound, 0.01)
    border = next(start for start, stop in runs(mask[:, 0]) if stop - start > 6) + 3
    padded = np.vstack([np.zeros((2**18 - border, 1)), sound])
    findings = survey(padded)
    assert any(finding.start < 2**18 < finding.stop for finding in findings)
    assert [(f.start, f.stop) for f in findings] == runs(np.vstack([np.zeros((2**18 - border, 1), bool), mask])[:, 0])
