"""Laws that every method keeps, whatever the sound: rates, channels, ends, silence, and sound that is no sound."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.sounds import chord, rng, voice
from umbrick.core.course.treatment import Treatment
from umbrick.core.errors import UmbrickError
from umbrick.core.mend.applying import Mended, apply_method
from umbrick.core.mend.method import Method
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import METHODS
from umbrick.core.sound.formats import HIGHEST_RATE, LOWEST_RATE
from umbrick.core.sound.source import ArraySource
from umbrick.core.timeline.history import History
from umbrick.core.timeline.lifting import switch_off, switch_on
from umbrick.core.timeline.version import Version

SETTINGS = {
    "level": {"gain_db": -6.0},
    "fade": {"direction": "out"},
    "redraw": {"shape": "line"},
    "slip": {"samples": "too_many"},
}
"""What a method is given to do anything; the others do something with what they have."""

MENDING = [name for name, method in METHODS.items() if not isinstance(method.does, Treatment)]
NEEDS_MORE = {"dethump", "plosive"}
"""What needs a fault that short sound has no room for, and has it in its own tests."""

FRAMES = 3000


def sound_of(kind: str, rate: int, channels: int) -> np.ndarray:
    """Return a short sound of a kind, the channels a little different from one another."""
    if kind == "silence":
        return np.zeros((FRAMES, channels))
    if kind == "one value":
        return np.full((FRAMES, channels), 0.25)
    if kind == "noise":
        return 0.2 * rng(channels).standard_normal((FRAMES, channels))
    if kind == "clipped":
        return np.clip(1.6 * np.repeat(chord(FRAMES / 48000), channels, axis=1), -0.5, 0.5)
    return np.hstack([voice(FRAMES / rate, seed=number, rate=rate)[:FRAMES] for number in range(channels)])


def version_of(sound: np.ndarray, rate: int) -> Version:
    return Version.of(ArraySource(sound.astype(np.float32), rate, "s"))


def heard(version: Version) -> np.ndarray:
    return version.read(0, version.frames)


def tried(version: Version, method: Method, place: Place) -> Mended | None:
    """Return what a method makes of a place, or None if it says, in a sentence, why it makes nothing."""
    try:
        return apply_method(version, method, SETTINGS.get(method.name, {}), [place])
    except UmbrickError as error:
        refusal = str(error)
    assert refusal[0].isupper()
    assert refusal.endswith(".")
    return None


KINDS = st.sampled_from(["silence", "one value", "noise", "clipped", "voice"])
RATES = st.sampled_from([8000, 44100, 384000])
CHANNELS = st.sampled_from([1, 2, 3])
ENDS = st.sampled_from(["start", "end", "all", "middle", "one frame"])


def place_at(where: str, channels: int) -> Place:
    spans = {
        "start": (0, 400),
        "end": (FRAMES - 400, FRAMES),
        "all": (0, FRAMES),
        "middle": (1300, 1700),
        "one frame": (1500, 1501),
    }
    return Place(*spans[where], (channels - 1,))


@pytest.mark.parametrize("name", [name for name in MENDING if name not in NEEDS_MORE])
def test_no_method_refuses_everything(name):
    made = (
        tried(version_of(sound_of(kind, 48000, 2), 48000), METHODS[name], place_at(where, 2))
        for kind in ("voice", "clipped", "noise")
        for where in ("middle", "one frame", "start")
    )
    assert any(one is not None and one.mends for one in made)


@pytest.mark.parametrize("rate", [LOWEST_RATE, HIGHEST_RATE])
@pytest.mark.parametrize("name", MENDING)
def test_at_the_ends_of_the_rates_sound_is_made_or_refused_in_words(name, rate):
    for kind, where in (("voice", "middle"), ("noise", "one frame")):
        made = tried(version_of(sound_of(kind, rate, 1), rate), METHODS[name], place_at(where, 1))
        assert made is None or np.isfinite(heard(made.version)).all()


@pytest.mark.parametrize("name", MENDING)
@settings(deadline=None, max_examples=5)
@given(kind=KINDS, rate=RATES, channels=CHANNELS, where=ENDS)
def test_whatever_is_made_is_sound_made_the_same_again_and_just_there(name, kind, rate, channels, where):
    version, method, place = version_of(sound_of(kind, rate, channels), rate), METHODS[name], place_at(where, channels)
    made = tried(version, method, place)
    if made is None:
        return
    again = tried(version, method, place)
    before, after = heard(version), heard(made.version)
    assert np.array_equal(after, heard(again.version))
    assert np.isfinite(after).all()
    assert np.array_equal(heard(version), before)
    if made.version.frames == version.frames and not sum(mend.time_shift for mend in made.mends):
        touched = np.zeros(FRAMES, np.bool_)
        for start, stop in zip(made.change.starts.tolist(), made.change.stops.tolist(), strict=True):
            touched[start:stop] = True
        assert np.array_equal(after[~touched], before[~touched])
        if name != "trim":  # which is of a recording, not of its channels
            assert np.array_equal(after[:, : channels - 1], before[:, : channels - 1])


@pytest.mark.parametrize("name", MENDING)
@settings(deadline=None, max_examples=4)
@given(kind=KINDS, channels=CHANNELS, where=ENDS)
def test_undone_switched_and_done_again_every_sample_is_as_it_was(name, kind, channels, where):
    version = version_of(sound_of(kind, 48000, channels), 48000)
    made = tried(version, METHODS[name], place_at(where, channels))
    if made is None or not made.mends:
        return
    history, before, after = History(version), heard(version), heard(made.version)
    history.push(made.edit("mend"))
    assert np.array_equal(heard(history.current), after)
    history.undo()
    assert np.array_equal(heard(history.current), before)
    history.redo()
    mend_ids = [entry.mend.id for entry in history.ledger]
    history.push(switch_off(history, mend_ids))
    assert np.array_equal(heard(history.current), before)
    history.push(switch_on(history, mend_ids))
    assert np.array_equal(heard(history.current), after)


@pytest.mark.parametrize("name", MENDING)
@pytest.mark.parametrize("frames", [1, 2, 5])
def test_a_recording_of_a_few_frames_is_mended_or_refused_in_words(name, frames):
    version = version_of(0.3 * rng(frames).standard_normal((frames, 1)), 48000)
    made = tried(version, METHODS[name], Place(0, frames, (0,)))
    assert made is None or np.isfinite(heard(made.version)).all()


@pytest.mark.parametrize("name", MENDING)
def test_one_channel_is_mended_alike_alone_and_beside_another_that_says_nothing(name):
    sound = sound_of("voice", 48000, 1)
    alone = tried(version_of(sound, 48000), METHODS[name], Place(1300, 1700, (0,)))
    beside = tried(version_of(np.hstack([sound, np.zeros_like(sound)]), 48000), METHODS[name], Place(1300, 1700, (0,)))
    assert (alone is None) == (beside is None)
    if alone is not None and alone.version.frames == beside.version.frames:
        assert np.allclose(heard(alone.version)[:, 0], heard(beside.version)[:, 0], atol=2e-3)
