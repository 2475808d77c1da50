"""Slips, buffers repeated or in the wrong order, knocks and rumble: found where they are, and put right."""

import numpy as np
import pytest
from scipy.signal import butter, sosfilt

from tests.core.survey.test_kinds import NOTE, SPEECH, surveyed
from tests.sounds import RATE, chord, on_grid, rng
from umbrick.core.mend.plan import carried_out, planned
from umbrick.core.mend.remedies import remedies
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey.impulses.impulse_sorting import events
from umbrick.core.survey.kinds.slip import regular
from umbrick.core.timeline.version import Version

EVERY = round(0.61 * RATE)


def strings(seconds=8.0):
    """Bowed strings with a little noise: bright, and never twice the same."""
    random, t = rng(11), np.arange(round(seconds * RATE)) / RATE
    sound = 2e-5 * random.standard_normal(len(t))
    for pitch in (196.0, 293.7, 440.2):
        bend = np.cumsum(1 + 0.003 * np.sin(2 * np.pi * 5.1 * t + pitch)) / RATE
        for number in range(1, int(9000 / pitch)):
            swell = 1 + 0.4 * np.sin(2 * np.pi * random.uniform(0.2, 1) * t + number)
            sound += 0.1 * number**-0.8 * swell * np.sin(2 * np.pi * pitch * number * bend + random.uniform(0, 6))
    return (sound * np.minimum(1, np.minimum(t, seconds - t) / 0.5))[:, np.newaxis]


STRINGS = strings()


def found(sound, *kinds):
    return surveyed(sound, kinds=kinds).sifted({})


def slipped(sound, samples):
    """Return a sound in which every 0.61 s one sample comes twice (1) or is lost (−1), and where."""
    parts, places, last, made = [], [], 0, 0
    for at in range(RATE, len(sound) - RATE, EVERY):
        parts.append(sound[last:at])
        made += at - last
        places.append(made)
        if samples > 0:
            parts.append(sound[at - 1 : at])
            made += 1
        last = at if samples > 0 else at + 1
    return np.concatenate([*parts, sound[last:]]), places


def mended(sound, findings):
    version = Version.of(ArraySource(on_grid(sound, 24).astype(np.float32), RATE, "s"))
    done = carried_out(version, planned(findings, version), findings).mended
    return done.version.read_exact(0, done.version.frames)


@pytest.mark.parametrize("samples", [1, -1])
def test_slips_that_are_due_are_found_though_they_hardly_stand_out(samples):
    faulty, places = slipped(0.8 * chord(16.0), samples)
    assert [slip.start for slip in found(faulty, "slip")] == pytest.approx(places, abs=1)


@pytest.mark.parametrize("samples", [1, -1])
@pytest.mark.parametrize("sound", [STRINGS, NOTE], ids=["strings", "note"])
def test_slips_are_found_to_the_sample_and_put_right(sound, samples):
    faulty, places = slipped(sound, samples)
    slips = found(faulty, "slip")
    starts = [slip.start for slip in slips]
    assert len(slips) >= 0.6 * len(places)
    assert all(min(abs(start - place) for place in places) <= 1 for start in starts)
    assert {slip.detail["samples"] for slip in slips} == {samples}
    assert slips[0].detail["period_s"] == pytest.approx((EVERY + samples) / RATE, abs=2e-4)
    after = mended(faulty, slips)
    assert len(after) == len(faulty) - samples * len(slips)
    first = starts[0]
    before = sum(place < first - 1 for place in places)
    truth = on_grid(sound, 24)[first - 200 - samples * before :][:400]
    made = after[first - 200 :][:400]
    assert np.abs(made - truth).max() < 0.03 * np.abs(truth).max()


def test_slips_that_all_look_like_clicks_are_found_where_they_come_evenly(monkeypatch):
    faulty, places = slipped(STRINGS, 1)

    def as_clicks(block):
        return [event._replace(sure=(sum(event.sure), 0.0, 0.0)) for event in events(block)]

    monkeypatch.setattr("umbrick.core.survey.kinds.slip.events", as_clicks)
    starts = [slip.start for slip in found(faulty, "slip")]
    assert len(starts) >= 0.6 * len(places)
    assert all(min(abs(start - place) for place in places) <= 1 for start in starts)


def test_breaks_that_are_no_slips_are_none():
    keep = np.ones(len(SPEECH), np.bool_)
    for at in range(RATE, len(SPEECH) - RATE, EVERY):
        keep[at : at + 90] = False
    findings = found(SPEECH[keep], "slip", "discontinuity")
    assert not [finding for finding in findings if finding.kind == "slip"]
    assert len([finding for finding in findings if finding.kind == "discontinuity"]) > 4


def test_what_comes_evenly_is_told_from_what_does_not():
    evenly = np.array([100, 1100, 3100, 4101, 7099, 8100])
    period, members = regular(evenly)
    assert period == pytest.approx(1000, abs=1)
    assert members.all()
    assert regular(np.array([5, 123, 4567]))[0] == 0
    assert regular(np.zeros(0, np.int64))[0] == 0


@pytest.mark.parametrize("size", [256, 1024])
def test_pieces_that_changed_places_are_one_finding_and_change_back(size):
    faulty = STRINGS.copy()
    places = [round(seconds * RATE) for seconds in (2.2, 4.1, 5.93)]
    for at in places:
        faulty[at : at + 2 * size] = np.roll(STRINGS[at : at + 2 * size], size, axis=0)
    findings = found(faulty, "discontinuity", "click", "mouth_click")
    turned = [finding for finding in findings if finding.detail.get("swapped_frames")]
    assert turned
    assert all(finding.start in places and finding.detail["swapped_frames"] == size for finding in turned)
    at = turned[0].start
    assert [f for f in findings if at - 10 <= f.start <= at + 2 * size + 10] == turned[:1]
    assert np.array_equal(mended(faulty, turned)[at : at + 2 * size], on_grid(STRINGS, 24)[at : at + 2 * size])


@pytest.mark.parametrize("is_lost", [True, False])
def test_a_buffer_that_never_came_is_filled_and_one_played_twice_goes(is_lost):
    at, size = round(4.1 * RATE), 1024
    again = SPEECH[at - size : at]
    faulty = np.concatenate([SPEECH[:at], again, SPEECH[at + size if is_lost else at :]])
    stutter = next(finding for finding in found(faulty, "stutter") if finding.start == at)
    version = Version.of(ArraySource(on_grid(faulty, 24).astype(np.float32), RATE, "s"))
    first = remedies(stutter, version)[0]
    assert first.title == ("Keep the length" if is_lost else "Take it out")
    assert len(mended(faulty, [stutter])) == len(SPEECH)


def knocked(sound, at, size=0.5):
    t = np.arange(RATE // 2) / RATE
    knock = np.exp(-60 * t) * np.sin(2 * np.pi * 32 * t) * np.minimum(1, t / 0.01)
    knock *= size / np.abs(knock).max()
    faulty = sound.copy()
    faulty[at : at + len(knock)] += knock[:, np.newaxis]
    return faulty


def test_a_knock_is_found_and_taken_out_and_what_is_above_it_stays():
    at = round(4.06 * RATE)
    faulty = knocked(SPEECH, at)
    (thump,) = [finding for finding in found(faulty, "thump") if finding.confidence > 0.5]
    assert thump.start < at + 0.05 * RATE < thump.stop
    after = mended(faulty, [thump])[: len(SPEECH)]
    span = slice(at, at + RATE // 10)
    before_error, error = (np.square(one[span] - SPEECH[span]).sum() for one in (faulty, after))
    assert error < 0.05 * before_error
    high = butter(4, 400, "high", fs=RATE, output="sos")
    assert np.abs(sosfilt(high, (after - faulty)[:, 0])).max() < 2e-3
    assert np.array_equal(after[: at - RATE // 5], on_grid(faulty, 24)[: at - RATE // 5])


def test_a_bass_drum_is_no_knock():
    drum = np.zeros_like(SPEECH)
    t = np.arange(RATE // 4) / RATE
    hit = np.exp(-18 * t) * np.sin(2 * np.pi * 55 * t) + 0.3 * np.exp(-300 * t) * rng(2).standard_normal(len(t))
    for start in range(RATE // 3, len(drum) - RATE, RATE // 2):
        drum[start : start + len(hit)] += 0.6 * hit[:, np.newaxis]
    assert found(drum, "thump") == []


def test_rumble_spans_the_recording_and_a_bass_line_is_none():
    noise = sosfilt(butter(2, (8, 22), "band", fs=RATE, output="sos"), rng(4).standard_normal(len(SPEECH)))
    rumbling = SPEECH + 0.012 * (noise / noise.std())[:, np.newaxis]
    (rumble,) = found(rumbling, "rumble")
    assert (rumble.start, rumble.stop) == (0, len(SPEECH))
    assert "below 35 Hz" in rumble.evidence
    t = np.arange(len(SPEECH)) / RATE
    notes = 0.3 * np.sin(2 * np.pi * 31 * t) * (np.sin(2 * np.pi * 0.7 * t) > 0)
    assert found(SPEECH + notes[:, np.newaxis], "rumble") == []
