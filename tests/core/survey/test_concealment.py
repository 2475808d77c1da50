"""Packets that a line concealed: heard where they fade, whatever the blocks, and nowhere in sound that is whole."""

import numpy as np
import pytest

from tests.core.survey.test_near_repeats import gliding
from tests.sounds import RATE, chord, sine, voice
from umbrick.core.mend.plan import planned
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey.detector import Block, Format
from umbrick.core.survey.finding import Finding
from umbrick.core.survey.one_event import one_event_each
from umbrick.core.survey.packets.concealment import ConcealedPackets
from umbrick.core.survey.packets.line_features import FEATURES, line_features
from umbrick.core.survey.packets.line_network import CONTEXT_HOPS, SILENCE, levelled, log_odds
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor
from umbrick.core.timeline.version import Version

LINE_RATE = 16000
MISSING = [(int(second * LINE_RATE), int((second + 0.12) * LINE_RATE)) for second in (0.9, 1.7, 2.6, 3.3, 4.2)]


def over_a_line():
    """Return a voice at 16 kHz with stretches made up as a decoder does: the last 20 ms go round, blurred, and fade."""
    sound = gliding()[::3].copy()
    random = np.random.default_rng(1)
    for start, stop in MISSING:
        last = sound[start - 320 : start, 0]
        lag = 40 + int(np.argmax([last @ sound[start - 320 - n : start - n, 0] for n in range(40, 260)]))
        made = np.array([sound[start - lag + n % lag, 0] for n in range(stop - start)])
        made += 0.05 * np.abs(made).mean() * random.standard_normal(len(made))
        sound[start:stop, 0] = made * 10 ** (-np.arange(stop - start) / LINE_RATE * 8.0)
    return sound


def in_blocks(sound, size, margin=8192):
    samples = sound.astype(np.float32)
    for start in range(0, len(samples), size):
        stop, before = min(start + size, len(samples)), min(start, margin)
        yield Block(start, stop, samples[start - before : min(stop + margin, len(samples))], before, LINE_RATE)


def listened(sound, size):
    packets = ConcealedPackets(Format(LINE_RATE, 1, 0.0))
    for block in in_blocks(sound, size):
        packets.feed(block)
    return packets.found()


def test_features_and_what_is_heard_do_not_depend_on_blocks():
    sound = over_a_line()
    whole, parted = (
        np.concatenate([line_features(block) for block in in_blocks(sound, size)]) for size in (1 << 18, 1 << 14)
    )
    assert whole.shape == (-(-len(sound) // 64), FEATURES)
    assert np.allclose(whole, parted, atol=2e-3)
    once, often = listened(sound, 1 << 18), listened(sound, 1 << 14)
    assert [one[:2] for one in once] == [one[:2] for one in often]
    assert np.allclose([one[2] for one in once], [one[2] for one in often], atol=0.02)


def test_levels_do_not_matter_to_the_network():
    features = np.concatenate([line_features(block) for block in in_blocks(over_a_line(), 1 << 18)])
    louder = features.copy()
    louder[:, :-3] += 0.5
    assert np.allclose(levelled(features), levelled(louder), atol=1e-4)
    assert len(log_odds(features)) == len(features) - 2 * CONTEXT_HOPS
    assert log_odds(np.tile(SILENCE, (2 * CONTEXT_HOPS + 1, 1)))[0] < 0


def test_what_a_line_made_up_is_found():
    found = [one for one in listened(over_a_line(), 1 << 18) if one.confidence >= 0.5]
    hit = [any(one.start < stop and one.stop > start for one in found) for start, stop in MISSING]
    assert sum(hit) >= 3
    assert all(any(one.start < stop + 800 and one.stop > start for start, stop in MISSING) for one in found)


@pytest.mark.parametrize(
    "sound",
    [
        gliding(),
        voice(5.0),
        chord(5.0),
        sine(200, seconds=4),
        0.1 * np.random.default_rng(2).standard_normal((RATE, 1)),
    ],
    ids=["gliding voice", "voice", "chord", "tone", "noise"],
)
def test_whole_sound_has_nothing_made_up(sound):
    source = ArraySource(sound.astype(np.float32), RATE, "s")
    findings = Surveyor(source, 24, [KINDS["dropout"]]).run().sifted({})
    assert not any(finding.detail.get("concealed") for finding in findings)


def test_what_a_line_made_up_is_not_mended_unasked():
    version = Version.of(ArraySource(over_a_line().astype(np.float32), LINE_RATE, "s"))
    found = Surveyor(version, 24, [KINDS["dropout"]]).run().sifted({})
    made_up = [finding for finding in found if finding.detail.get("concealed")]
    assert made_up
    assert planned(made_up, version) == []
    (batch,) = planned(made_up, version, {"dropout": "Both sides"})
    assert len(batch.places) == len(made_up)


def test_what_a_cycle_that_is_held_says_already_is_not_listed_twice():
    stutter = Finding("", "stutter", 1000, 3000, (0,), 0.5, 0.9, "")
    made_up = Finding("", "dropout", 900, 3100, (0,), 0.5, 0.9, "", {"concealed": True})
    hole = Finding("", "dropout", 900, 3100, (0,), 0.5, 0.9, "")
    kept = one_event_each({"stutter": [stutter], "dropout": [hole, made_up]}, RATE)
    assert kept == {"stutter": [stutter], "dropout": [hole]}
