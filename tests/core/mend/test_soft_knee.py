"""Soft knees: measured, straightened as far as a swing goes, and offered where there is one."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.sounds import RATE, bent, chord, runs, voice
from umbrick.core.mend.applying import apply_method
from umbrick.core.mend.declipping.declip import METHOD
from umbrick.core.mend.declipping.soft_knee import Knee, rails_of, soft_knee, straightened
from umbrick.core.mend.place import Place
from umbrick.core.mend.plan import planned
from umbrick.core.mend.remedies import remedies
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey.finding import Finding
from umbrick.core.timeline.version import Version

RAIL = 0.3
KNEE = Knee(3.0, 2.0)


def cut(wave):
    return np.clip(wave, -RAIL, RAIL).astype(np.float32).astype(np.float64)


def on_rail(wave):
    return np.abs(wave) >= np.float32(RAIL)


def sound(make, seconds=0.5):
    wave = make(seconds)[:, 0]
    return 0.6 * wave / np.abs(wave).max()


def longest_run(mask):
    return max(runs(mask), key=lambda run: run[1] - run[0])


@pytest.mark.parametrize("make", [voice, chord])
def test_a_knee_is_measured_and_a_hard_rail_has_none(make):
    wave = cut(bent(sound(make), *KNEE, RAIL))
    seen = soft_knee(wave, on_rail(wave))
    assert seen is not None
    assert seen.below_db == pytest.approx(KNEE.below_db, abs=0.8)
    assert seen.stretch == pytest.approx(KNEE.stretch, abs=0.6)
    hard = cut(sound(make))
    assert soft_knee(hard, on_rail(hard)) is None
    for nothing in (wave[:40], wave[:0], np.zeros(9000), np.full(9000, RAIL), np.tile([RAIL, -RAIL], 4000)):
        assert soft_knee(nothing, on_rail(nothing)) is None
    assert soft_knee(np.zeros(9000), np.ones(9000, bool)) is None


@given(st.floats(0.5, 6.0), st.floats(1.0, 5.0), st.lists(st.floats(-1.0, 1.0), min_size=1, max_size=40))
def test_straightening_is_bending_backwards(below_db, stretch, heights):
    knee, wave = Knee(below_db, stretch), np.array(heights)
    straight = straightened(wave, np.full(len(wave), RAIL), knee)
    assert np.allclose(bent(straight, *knee, RAIL), wave)
    below = np.abs(wave) < RAIL * 10 ** (-below_db / 20)
    assert np.array_equal(straight[below], wave[below])


def test_rails_go_over_from_one_height_to_the_next_on_each_side_of_zero():
    wave = np.array([0.5, 0.1, 0.1, 0.1, 0.7, -0.2, -0.2])
    rails = rails_of(wave, np.abs(wave) >= 0.5)
    assert np.allclose(rails[:5], [0.5, 0.55, 0.6, 0.65, 0.7])
    assert np.isinf(rails[5:]).all()


@pytest.mark.parametrize("make", [voice, chord])
def test_a_swing_is_straightened_as_far_as_it_was_bent_and_no_other(make):
    truth = sound(make)
    wave = cut(bent(truth, *KNEE, RAIL))
    version = Version.of(ArraySource(wave[:, np.newaxis], RATE, "bent"))
    places = [Place(start, stop, (0,)) for start, stop in runs(on_rail(wave))]
    begins = RAIL * 10 ** (-KNEE.below_db / 20)

    def error(settings, chosen):
        mended = apply_method(version, METHOD, settings, chosen, places).version.read(0, len(wave))[:, 0]
        assert np.array_equal(mended[np.abs(wave) <= 0.99 * begins], wave[np.abs(wave) <= 0.99 * begins])
        return np.square(mended - truth)[np.abs(wave) > begins].sum(), np.flatnonzero(mended != wave)

    settings = {"knee_db": KNEE.below_db, "knee_stretch": KNEE.stretch}
    assert error(settings, places)[0] < 0.3 * error({}, places)[0]
    start, stop = longest_run(on_rail(wave))
    changed = error(settings, [Place(start, stop, (0,))])[1]
    same_swing = (wave > begins) if wave[start] > 0 else (wave < -begins)
    assert changed[0] < start < stop <= changed[-1]
    assert same_swing[changed[0] : changed[-1] + 1].all()


def test_the_knee_is_offered_where_there_is_one():
    for wave, has_knee in ((cut(bent(sound(voice), *KNEE, RAIL)), True), (cut(sound(voice)), False)):
        version = Version.of(ArraySource(wave[:, np.newaxis], RATE, "cut"))
        start, stop = longest_run(on_rail(wave))
        finding = Finding("f1", "clipping", start, stop, (0,), 0.5, 0.9, "stands on a rail", {})
        titles = [remedy.title for remedy in remedies(finding, version)]
        assert titles[0] == "All that is known"
        assert ("And its soft knee" in titles) == has_knee


def test_the_knee_of_the_recording_is_chosen_for_all_clipping_at_once():
    wave = cut(bent(sound(voice, 0.25), *KNEE, RAIL))
    version = Version.of(ArraySource(wave[:, np.newaxis], RATE, "cut"))
    spans = runs(on_rail(wave))
    findings = [Finding(f"f{n}", "clipping", *span, (0,), 0.5, 0.9, "", {}) for n, span in enumerate(spans)]
    (knee,) = [remedy for remedy in remedies(findings[len(findings) // 2], version) if remedy.is_of_recording]
    (batch,) = planned(findings, version, {"clipping": knee.title}, {"clipping": knee.adjustment})
    assert batch.settings == knee.settings
    assert len(batch.places) == len(findings)
    (plain,) = planned(findings, version, {"clipping": "Smooth curve"}, {"clipping": knee.adjustment})
    assert plain.settings == {"using": "curve"}
