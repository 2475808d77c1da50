"""What detectors share: the same wherever a recording is cut into blocks, and made once a block."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.signal import firwin

from tests.sounds import RATE, chord, faultless, on_grid, rng, voice
from umbrick.core.sound.decimation import decimated
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey import streaming
from umbrick.core.survey.excerpt import is_same, survey_span
from umbrick.core.survey.finding import Finding
from umbrick.core.survey.impulses.residual import MARGIN_SEGMENTS, residuals
from umbrick.core.survey.levels.fine_bands import fine_bands
from umbrick.core.survey.levels.low_wave import LowWaves, low_wave, step_for
from umbrick.core.survey.levels.outline import outline
from umbrick.core.survey.one_event import one_event_each
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.streaming import blocks
from umbrick.core.survey.survey import Surveyor
from umbrick.core.timeline.version import Version

SOUND = np.vstack([voice(5.0), chord(3.0)])


def source_of(sound):
    return ArraySource(on_grid(sound, 24).astype(np.float32), RATE, "s")


def measured(measure, sound, block_frames, monkeypatch):
    monkeypatch.setattr(streaming, "BLOCK_FRAMES", block_frames)
    return [measure(block) for block in blocks(source_of(sound))]


@pytest.mark.parametrize("measure", [low_wave, fine_bands, lambda block: np.stack(outline(block), axis=1)])
def test_the_blocks_borders_cannot_be_seen(measure, monkeypatch):
    whole, parts = (np.concatenate(measured(measure, SOUND, size, monkeypatch)) for size in (2**20, 2**15))
    assert np.allclose(whole, parts, rtol=1e-4, atol=1e-7)


def test_nor_can_they_in_the_residual(monkeypatch):
    def own(block):
        residual = residuals(block)[0]
        margin = MARGIN_SEGMENTS * residual.segment
        return residual.error[margin : margin + block.stop - block.start]

    whole, parts = (np.concatenate(measured(own, SOUND, size, monkeypatch)) for size in (2**20, 2**15))
    assert np.allclose(whole, parts, atol=1e-6)


def test_a_single_wrong_sample_gathers_what_it_leaves(monkeypatch):
    wrong = SOUND.copy()
    wrong[100_000] += 0.05
    (residual,) = measured(lambda block: residuals(block)[0], wrong, 2**20, monkeypatch)
    at = 100_000 - residual.first
    assert np.argmax(np.abs(residual.error[at - 500 : at + 500])) == 500
    assert residual.error[at] / residual.gain[at // residual.segment] == pytest.approx(0.05, rel=0.2)


@given(frames=st.integers(1, 3000), step=st.integers(2, 40), taps_per_step=st.sampled_from([2, 4, 8]))
def test_a_decimated_wave_is_every_nth_value_of_the_filtered_one(frames, step, taps_per_step):
    wave = rng().standard_normal(frames).astype(np.float32)
    filtered = np.convolve(wave, firwin(taps_per_step * step + 1, 0.8 / step))[taps_per_step * step // 2 :][:frames]
    assert np.allclose(decimated(wave, step, taps_per_step), filtered[::step], atol=1e-5)


def test_the_low_wave_is_what_was_low():
    t = np.arange(2 * RATE) / RATE
    low, high = np.sin(2 * np.pi * 70 * t), np.sin(2 * np.pi * 2000 * t)
    step = step_for(RATE)
    made = np.concatenate([low_wave(block) for block in blocks(source_of(0.4 * (low + high)[:, np.newaxis]))])
    assert np.abs(made - 0.4 * low[::step])[50:-50].max() < 0.004


def test_a_measurement_is_made_once_however_often_it_is_asked_for():
    block = next(iter(blocks(source_of(SOUND))))
    made = []

    def measure(own):
        made.append(own)
        return len(made)

    assert [block.shared(measure) for _ in range(3)] == [1, 1, 1]
    assert made == [block]


@pytest.mark.parametrize("block_frames", [2**15, 2**16])
def test_findings_do_not_depend_on_the_blocks(block_frames, monkeypatch):
    wrong, random = SOUND.copy(), rng(9)
    for at in random.integers(RATE, len(wrong) - RATE, 12):
        wrong[at] += 0.3
    wrong[3 * RATE : 3 * RATE + 900] = 0

    def places():
        table = Surveyor(source_of(wrong), 24, [KINDS["click"], KINDS["dropout"], KINDS["stutter"]]).run().sifted({})
        return [(finding.kind, finding.start, finding.stop) for finding in table]

    whole = places()
    assert len(whole) >= 12
    monkeypatch.setattr(streaming, "BLOCK_FRAMES", block_frames)
    assert places() == whole


def finding(kind, start, stop, confidence=0.9, channels=(0,)):
    return Finding("", kind, start, stop, channels, 0.5, confidence, "")


def test_one_event_is_one_finding():
    found = {
        "dropout": [finding("dropout", 1000, 2000)],
        "click": [finding("click", 999, 1001), finding("click", 5000, 5001), finding("click", 1000, 1001, 0.9, (1,))],
        "discontinuity": [finding("discontinuity", 2003, 2004), finding("discontinuity", 5001, 5002)],
    }
    kept = one_event_each(found, RATE)
    assert kept["dropout"] == found["dropout"]
    assert [(f.start, f.channels) for f in kept["click"]] == [(5000, (0,)), (1000, (1,))]
    assert kept["discontinuity"] == []
    swing = {"plosive": [finding("plosive", 4900, 9000)], "peak": [finding("peak", 4000, 6000)]}
    assert {kind: one_event_each(found | swing, RATE)[kind] for kind in swing} == {"plosive": [], "peak": []}
    word = {"peak": [finding("peak", 4000, 9000)]}
    assert one_event_each(found | word, RATE)["peak"] == word["peak"]
    doubtful = found | {"dropout": [finding("dropout", 1000, 2000, 0.2)]}
    assert len(one_event_each(doubtful, RATE)["click"]) == 3


def test_a_part_alone_is_surveyed_in_the_frames_of_the_whole():
    wrong = faultless(12.0)
    wrong[[3 * RATE, 6 * RATE, 9 * RATE]] += 0.4
    version = Version.of(source_of(wrong))
    found = survey_span(version, 24, [KINDS["click"]], 5 * RATE, 7 * RATE)
    assert [(f.start, f.stop) for f in found if f.confidence > 0.5] == [(6 * RATE, 6 * RATE + 1)]
    assert is_same(found[0], finding("click", 6 * RATE + 2, 6 * RATE + 3), 5)
    assert not is_same(found[0], finding("dropout", 6 * RATE, 6 * RATE + 1), 5)


@given(st.lists(st.integers(0, 9), max_size=6), st.integers(0, 60), st.integers(0, 60))
def test_slices_of_a_low_wave_are_those_of_its_parts_in_a_row(lengths, start, stop):
    waves, whole = LowWaves(), np.arange(sum(lengths), dtype=np.float32)
    for last, length in zip(np.cumsum(lengths), lengths, strict=True):
        waves.append(whole[last - length : last])
    assert len(waves) == len(whole)
    assert np.array_equal(waves[start:stop], whole[start:stop])
