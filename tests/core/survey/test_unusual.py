"""Sound that is clean but unusual: what was meant to stop, to be square or to be loud is no damage."""

import numpy as np
import pytest
import soxr

from benchmarks.ramps import ramped
from benchmarks.unusual import UNUSUAL
from tests.core.survey.test_kinds import speech, surveyed
from tests.sounds import RATE, chord
from umbrick.work.doing import sure_enough

VOICE = ramped(0.9 * speech(8.0)[:, 0] / np.abs(speech(8.0)).max(), 10.0), RATE
MUSIC = ramped(0.9 * chord(8.0)[:, 0] * (1 - 0.6 * np.abs(np.sin(np.arange(8 * RATE) / RATE * 7.3))), 10.0), RATE
PAUSES = ("dialled tones", "voice through a gate of 1 ms", "saw notes", "morse", "beeps", "metronome", "hats",
          "gated pad", "chopped pad", "square tremolo", "noise bursts", "coder's pauses", "low bass",
          "sub bass")  # fmt: skip
LOUD = ("sweep", "modem", "limiter by 4 dB", "limiter by 10 dB", "limiter by 6 dB at 24 bits", "chiptune", "bit crush",
        "square notes", "pulse notes", "sine notes", "siren", "birdsong")  # fmt: skip


WHOLE = ("modem", "rain", "castanets", "claves", "sweep", "decaying tones", "metronome", "pulse notes", "hard-panned",
         "vocoded", "applause", "bit crush")  # fmt: skip


def listed(name, *kinds):
    sound, rate, bits = UNUSUAL[name](np.random.default_rng(5), VOICE, MUSIC)
    findings = surveyed(np.atleast_2d(sound.T).T, rate, kinds, bits).sifted({})
    return [finding for finding in findings if finding.kind in kinds]


@pytest.mark.parametrize("name", WHOLE)
def test_nothing_is_sure_to_be_damage_and_nothing_is_mended_unasked(name):
    damage = ("click", "crackle", "mouth_click", "discontinuity", "dropout", "stutter", "clipping", "slip")
    found = listed(name, *damage, "hum", "dc_offset", "intrusion", "sibilance", "hard_edge")
    assert [finding for finding in found if finding.confidence >= 0.9] == []
    assert sure_enough(found, {})[0] == []


def test_what_is_lopsided_has_no_offset_but_what_a_converter_adds_is_one():
    sound, rate, bits = UNUSUAL["pulse notes"](np.random.default_rng(5), VOICE, MUSIC)
    assert not surveyed(sound[:, np.newaxis], rate, ["dc_offset"], bits).sifted({})
    assert surveyed(sound[:, np.newaxis] * 0.9 + 0.02, rate, ["dc_offset"], bits).sifted({})


def test_hum_under_even_strokes_is_heard_and_their_own_lines_are_none():
    sound, rate, bits = UNUSUAL["claves"](np.random.default_rng(5), VOICE, MUSIC)
    t = np.arange(len(sound)) / rate
    hum = sum(0.003 * 0.7**k * np.sin(2 * np.pi * 50 * k * t + k) for k in range(1, 8))
    assert not surveyed(sound[:, np.newaxis], rate, ["hum"], bits).sifted({})
    assert surveyed((sound + hum)[:, np.newaxis], rate, ["hum"], bits).sifted({})


@pytest.mark.parametrize("name", PAUSES)
def test_a_rest_is_no_missing_sound(name):
    assert all(finding.confidence < 0.9 for finding in listed(name, "dropout"))
    assert len(listed(name, "dropout")) <= 2


@pytest.mark.parametrize("name", LOUD)
def test_peaks_that_reach_a_level_exactly_were_not_cut_off(name):
    assert listed(name, "clipping") == []


@pytest.mark.parametrize("name", ["sine notes", "saw notes", "morse", "ringing tone"])
def test_a_tone_that_is_held_is_no_stutter_and_no_crackle(name):
    assert len(listed(name, "stutter")) <= 3
    assert listed(name, "crackle") == []


def test_notes_at_another_speed_come_again_only_as_notes_do():
    sound, rate, bits = UNUSUAL["saw notes"](np.random.default_rng(5), VOICE, MUSIC)
    slower = np.round(soxr.resample(sound, rate, 0.84 * rate) * 2**15) / 2**15
    assert surveyed(slower[:, np.newaxis], rate, ["stutter"], bits).sifted({}) == []


def test_the_low_end_of_a_chip_is_no_rumble():
    assert listed("chiptune", "rumble") == []


def test_a_rest_says_so_and_its_edges_are_no_breaks():
    sound, rate, bits = UNUSUAL["dialled tones"](np.random.default_rng(5), VOICE, MUSIC)
    result = surveyed(sound[:, np.newaxis], rate, ["dropout", "discontinuity"], bits)
    rests = [finding for finding in result.table.findings if finding.detail.get("rest")]
    assert len(rests) > 50
    assert all("perhaps a rest" in rest.evidence for rest in rests)
    assert len([finding for finding in result.sifted({}) if finding.kind == "discontinuity"]) <= 3


def test_holes_among_rests_are_found_by_how_they_break_off():
    sound, rate, bits = UNUSUAL["coder's pauses"](np.random.default_rng(5), VOICE, MUSIC)
    loud = np.flatnonzero(np.abs(sound) > 0.5 * np.abs(sound).max())
    places = [int(loud[len(loud) * part // 5]) // 160 * 160 for part in (1, 2, 3, 4)]
    for place in places:
        sound[place : place + 160] = 0
    found = [f for f in surveyed(sound[:, np.newaxis], rate, ["dropout"], bits).sifted({}) if f.kind == "dropout"]
    met = [any(abs(finding.start - place) < 20 for finding in found) for place in places]
    assert sum(met) >= 2
    assert len(found) <= len(places) + 1


def test_what_sounds_from_end_to_end_intrudes_on_nothing_however_long_it_is():
    t = np.arange(14 * RATE) / RATE
    drone = 0.05 * np.sin(2 * np.pi * 1700 * t) + 0.02 * np.random.default_rng(1).standard_normal(len(t))
    assert not surveyed(drone[:, np.newaxis], RATE, ["intrusion"]).sifted({})
    drone[: 6 * RATE] -= 0.05 * np.sin(2 * np.pi * 1700 * t[: 6 * RATE])
    drone[9 * RATE :] -= 0.05 * np.sin(2 * np.pi * 1700 * t[9 * RATE :])
    (call,) = surveyed(drone[:, np.newaxis], RATE, ["intrusion"]).sifted({})
    assert abs(call.start - 6 * RATE) < RATE // 20
    assert abs(call.stop - 9 * RATE) < RATE // 20


def test_the_notes_of_an_organ_intrude_on_nothing():
    assert listed("organ", "intrusion") == []


@pytest.mark.parametrize("name", ["gongs", "rockets", "thunder"])
def test_what_dies_away_or_comes_over_a_quiet_night_is_no_step_of_the_level(name):
    assert listed(name, "level_step") == []


def test_an_echo_and_a_loop_are_meant_to_come_again():
    assert listed("echo", "stutter") == []
    assert listed("loop", "stutter") == []


def test_half_a_second_that_goes_round_is_no_hum_though_it_has_lines_at_all_its_multiples():
    assert listed("loop", "hum") == []
