import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.sounds import RATE, clipped, runs, voice
from umbrick.core.errors import CancelledError, ParameterError
from umbrick.core.mend.applying import apply_method
from umbrick.core.mend.place import Place, mask_of, stretches
from umbrick.core.mend.registry import METHODS, method_named
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey.registry import KINDS
from umbrick.core.timeline.version import Version

CURVE = {"using": "curve"}


def opened(share=0.01, seconds=6.0, channels=1):
    sound, truth, mask = clipped(np.hstack([voice(seconds, seed=s) for s in range(channels)]), share)
    version = Version.of(ArraySource(sound, RATE, "s"))
    places = [Place(a, b, (c,), (f"{c}:{a}",)) for c in range(channels) for a, b in runs(mask[:, c])]
    return version, truth, mask, places


@pytest.mark.parametrize("channels", [1, 3])
def test_just_the_damaged_samples_change(channels):
    version, truth, mask, places = opened(channels=channels)
    mended = apply_method(version, method_named("declip"), CURVE, places)
    before, after = version.read(0, version.frames), mended.version.read(0, version.frames)
    assert np.array_equal(before[~mask], after[~mask])
    assert np.square(truth - after).sum() < 0.6 * np.square(truth - before).sum()
    assert mended.peak == pytest.approx(np.abs(after[mask]).max(), rel=1e-6)
    assert len(mended.mends) == len(places) or channels > 1
    assert {i for m in mended.mends for i in m.finding_ids} == {i for p in places for i in p.finding_ids}
    assert mended.mends[0].parameters == {"rail_dbfs": "auto", "using": "curve", "knee_db": 0.0, "knee_stretch": 2.0}


def test_the_number_of_threads_makes_no_difference():
    version, _, _, places = opened()
    one, many = (apply_method(version, method_named("declip"), CURVE, places, workers=n).version for n in (1, 4))
    assert np.array_equal(one.read(0, one.frames), many.read(0, many.frames))


def test_mending_one_place_relies_on_no_other_damage():
    version, truth, _, places = opened(share=0.03)
    place = max(places, key=lambda p: p.stop - p.start)
    knowing = apply_method(version, method_named("declip"), {"using": "sparse"}, [place], places)
    ignorant = apply_method(version, method_named("declip"), {"using": "sparse"}, [place])
    span = slice(place.start, place.stop)
    errors = [np.square(truth[span] - m.version.read(place.start, place.stop)).sum() for m in (knowing, ignorant)]
    assert errors[0] < errors[1]


def test_stopping_changes_nothing_and_progress_reaches_the_end():
    version, _, _, places = opened()
    with pytest.raises(CancelledError):
        apply_method(version, method_named("declip"), {}, places, is_cancelled=lambda: True)
    shares = []
    apply_method(version, method_named("declip"), CURVE, places, progress=shares.append)
    assert shares == sorted(shares)
    assert shares[-1] == 1.0


def test_a_place_at_either_end_of_the_sound_and_a_very_long_one():
    version, _, _, _ = opened(seconds=5.0)
    for place in (Place(0, 5, (0,)), Place(version.frames - 5, version.frames, (0,)), Place(0, version.frames, (0,))):
        mended = apply_method(version, method_named("declip"), CURVE, [place])
        assert mended.version.frames == version.frames


def test_channels_of_a_32_bit_file_that_are_not_mended_keep_every_bit():
    sound = np.hstack([clipped(voice(1.0))[0], voice(1.0) / 3])
    version = Version.of(ArraySource(sound.astype(np.float64), RATE, "s"))
    place = Place(*runs(clipped(voice(1.0))[2][:, 0])[0], (0,))
    mended = apply_method(version, method_named("declip"), CURVE, [place])
    assert np.array_equal(mended.version.read_exact(0, version.frames)[:, 1], sound[:, 1])


@settings(max_examples=60)
@given(st.lists(st.tuples(st.integers(0, 5000), st.integers(1, 900)), min_size=1, max_size=30))
def test_stretches_hold_every_place_and_are_apart(spans):
    places = [Place(start, start + length, (0,)) for start, length in spans]
    groups = list(stretches(places, 100, 1000))
    everything = mask_of(places, 0, 6000, 1)
    assert np.array_equal(mask_of([p for g in groups for p in g], 0, 6000, 1), everything)
    for group in groups:
        assert max(p.stop for p in group) - min(p.start for p in group) <= 2000


def test_settings_are_checked_and_named():
    method = method_named("declip")
    assert method.checked({"rail_dbfs": "-1.5 dBFS"})["rail_dbfs"] == -1.5
    for settings_, says in (
        ({"rail_dbfs": "loud"}, "a number from -60 to 24 dBFS, or auto"),
        ({"rail_dbfs": 99}, "from -60 to 24"),
        ({"using": "magic"}, "one of auto, curve, prediction, sparse"),
        ({"speed": 1}, "no parameter “speed”"),
    ):
        with pytest.raises(ParameterError, match=says):
            method.checked(settings_)
    with pytest.raises(ParameterError, match="no method “polish”"):
        method_named("polish")


def test_every_method_is_documented():
    for name, method in METHODS.items():
        assert method.name == name
        assert set(method.minds) <= set(KINDS)
        assert method.summary.endswith(".")
        assert all(p.summary for p in method.parameters)
