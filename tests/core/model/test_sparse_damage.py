"""Damage that is taken out without being told which samples have it."""

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.sounds import chord, rng, voice
from umbrick.core.model.autoregression import modelled
from umbrick.core.model.sparse_damage import without_damage

ORDER = 32
CHORD, VOICE = chord(0.2)[:, 0], voice(0.2, noise=0.002)[:, 0]


def freed(sound, damaged, start, stop):
    model = modelled(sound[start - 1000 : stop + 1000], ORDER)
    errors = np.convolve(sound[start - 400 : stop + 400], model.error_filter, "valid")
    return without_damage(damaged, sound, start, stop, model, float(np.mean(errors**2)))


def left_and_added(sound, at, length, early, late, seed):
    """Return the energy of what is left of damage, and that of the damage."""
    added = np.zeros(len(sound))
    added[at : at + length] = 0.3 * rng(seed).standard_normal(length) * np.exp(-3 * np.arange(length) / length)
    start, stop = at - early, at + length + late
    left = freed(sound, sound + added, start, stop) - sound[start:stop]
    return np.sum(left**2), np.sum(added**2)


@settings(max_examples=30, deadline=None)
@given(
    at=st.integers(2000, 7000),
    length=st.integers(1, 20),
    early=st.integers(0, 20),
    late=st.integers(0, 20),
    seed=st.integers(0, 99),
)
def test_what_was_added_to_some_samples_is_taken_out(at, length, early, late, seed):
    left, added = left_and_added(CHORD, at, length, early, late, seed)
    assert left < 0.1 * added


def test_so_it_is_in_a_voice_but_for_single_pulses():
    places = [(at, 1 + seed % 20, seed % 17, seed % 19, seed) for seed, at in enumerate(range(2000, 7000, 83))]
    energies = np.array([left_and_added(VOICE, *place) for place in places])
    assert energies[:, 0].sum() < 0.1 * energies[:, 1].sum()
    assert np.median(energies[:, 0] / energies[:, 1]) < 0.1


@given(start=st.integers(1500, 7000), length=st.integers(1, 60))
def test_sound_without_damage_is_hardly_changed(start, length):
    changed = freed(CHORD, CHORD, start, start + length) - CHORD[start : start + length]
    assert np.sqrt(np.mean(changed**2)) < 0.01 * np.sqrt(np.mean(CHORD**2))


def test_it_does_not_look_at_what_the_surroundings_hold_inside():
    damaged = VOICE.copy()
    damaged[4000:4005] += 0.4
    elsewise = VOICE.copy()
    elsewise[3990:4030] = 7.0
    model = modelled(VOICE[3000:5000], ORDER)
    one, other = (without_damage(damaged, around, 3990, 4030, model, 1e-6) for around in (VOICE, elsewise))
    assert np.array_equal(one, other)
