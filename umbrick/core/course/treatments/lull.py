"""Lull: the pauses between phrases are lowered, by ramps that lie in them; their digital silence may be filled."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable, Sequence

import numpy as np

from umbrick.core.course.step import RAMP_MS, Profile, merged, without
from umbrick.core.course.treatment import COMMON, Block, Treatment, Wave
from umbrick.core.errors import ParameterError
from umbrick.core.measure.pauses import PauseRule, all_pauses
from umbrick.core.measure.silences import shortest_silence, silences, silent
from umbrick.core.mend.method import Method
from umbrick.core.mend.parameters import Parameter, Parameters
from umbrick.core.sound.source import Source
from umbrick.core.spectral.noise_print import is_print, measured_print
from umbrick.core.spectral.toned import room_tone_of
from umbrick.core.units import db_to_amplitude

_AFTER_A_WORD_SECONDS, _BEFORE_A_WORD_SECONDS = 0.1, 0.06
"""A word dies away before the next pause begins, and its first consonant is softer than its vowel."""

_FILL = "fill"
_BREATH_DB = 10.0
"""How much louder a pause may be where breaths are lowered too."""

_LEAST_TONE_SECONDS = 0.08
"""Shorter pieces of a pause tell little of its colour."""

_QUIETER_HALF = 0.5
"""In so much of the pauses, the quietest, there is nothing but room tone: words still die away in others."""


def process(block: Block, settings: Parameters, profile: Profile) -> Wave:
    """Return a block at the level of a pause, with room tone in its digital silence if that is wanted."""
    own = block.own
    if profile and settings["holes"] == _FILL:
        nothing = silent(block.samples, block.rate)[block.before : len(block.samples) - block.after]
        if nothing.any():
            start, stop = block.start, block.start + len(own)
            tone = room_tone_of(profile["levels_db"], profile["alike"], block.rate, start, stop)
            own = np.where(nothing[:, np.newaxis], tone, own)
    return own * db_to_amplitude(-float(settings["amount_db"]))


def context(settings: Parameters, profile: Profile, rate: int) -> int:
    """Return how far around a block digital silence is looked for."""
    return shortest_silence(rate) if profile else 0


def places(
    sound: Source,
    spans: Sequence[tuple[int, int]],
    settings: Parameters,
    progress: Callable[[float], None],
    is_cancelled: Callable[[], bool],
) -> list[tuple[int, int]]:
    """Return the pauses of a sound that lie in some spans, with all of the digital silence they are to be rid of.

    ParameterError if there is none.
    """
    extra_db = _BREATH_DB if settings["breaths"] == "lower" else 0.0
    rule = PauseRule(
        margin_db=float(settings["threshold_db"]) + extra_db,
        after_seconds=_AFTER_A_WORD_SECONDS,
        before_seconds=_BEFORE_A_WORD_SECONDS,
    )
    pauses = all_pauses(sound, progress, is_cancelled, rule)
    if settings["holes"] == _FILL:
        pauses = _with_their_silence(pauses, silences(sound, [(0, sound.frames)], is_cancelled))
    least = float(settings["shortest_ms"]) * sound.rate / 1000
    found = [
        (max(start, low), min(stop, high))
        for start, stop in pauses
        for low, high in spans
        if start < high and stop > low
    ]
    found = [(start, stop) for start, stop in found if stop - start >= least]
    if not found:
        raise ParameterError("There is no pause here that is so long.", "Try a shorter one, or a higher threshold.")
    return found


def learn(
    sound: Source,
    spans: Sequence[tuple[int, int]],
    channels: Sequence[int],
    settings: Parameters,
    progress: Callable[[float], None],
    is_cancelled: Callable[[], bool],
) -> Profile:
    """Return what the room tone in some pauses is like, if holes are to be filled with it.

    ParameterError if all of them are digital silence.
    """
    if settings["holes"] != _FILL:
        return {}
    nothing = merged(silences(sound, spans, is_cancelled))
    least = round(_LEAST_TONE_SECONDS * sound.rate)
    heard = [(start, stop) for start, stop in without(merged(spans), nothing) if stop - start >= least]
    if not heard:
        raise ParameterError(
            "There is no room tone to fill holes with: all pauses are digital silence.",
            "Lower the pauses without filling, or paste room tone from another recording.",
        )
    heard.sort(key=lambda span: _power(sound, span))
    frames = np.cumsum([stop - start for start, stop in heard])
    heard = sorted(heard[: 1 + int(np.searchsorted(frames, _QUIETER_HALF * frames[-1]))])
    levels_db = measured_print(sound, heard, channels, progress, is_cancelled)
    return {"rate": sound.rate, "levels_db": levels_db, "alike": _alike(sound, heard, channels)}


def _with_their_silence(pauses: Sequence[tuple[int, int]], nothing: Sequence[tuple[int, int]]) -> list[tuple[int, int]]:
    """Return pauses that reach as far as the digital silence that begins or ends in them: no word is in that."""
    starts = [start for start, _ in pauses]
    touching = []
    for start, stop in nothing:
        before = bisect_left(starts, stop)
        if before and pauses[before - 1][1] > start:
            touching.append((start, stop))
    return list(merged([*pauses, *touching]))


def _power(sound: Source, span: tuple[int, int]) -> float:
    return float(np.square(sound.read(*span).astype(np.float64)).mean())


def _alike(sound: Source, spans: Sequence[tuple[int, int]], channels: Sequence[int]) -> float:
    """Return how the channels correlate in some spans, from 0 to 1."""
    if len(channels) < 2:
        return 0.0
    longest = max(spans, key=lambda span: span[1] - span[0])
    both = np.asarray(np.corrcoef(sound.read(*longest)[:, list(channels)].T.astype(np.float64)))
    mean = float(np.nan_to_num(both)[~np.eye(len(channels), dtype=bool)].mean())
    return round(min(1.0, max(0.0, mean)), 3)


def is_profile(profile: Profile, channels: int) -> bool:
    """Return whether this says nothing, or what the room tone of so many channels is like."""
    if not profile:
        return True
    alike = profile.get("alike")
    return (
        set(profile) == {"rate", "levels_db", "alike"}
        and type(alike) is float
        and 0 <= alike <= 1
        and is_print(profile["levels_db"], profile["rate"], channels)
    )


def told(settings: Parameters, profile: Profile) -> str:
    """Return by how much pauses are lowered."""
    lowered = f"Pauses −{float(settings['amount_db']):g} dB"
    return f"{lowered}, holes filled" if settings["holes"] == _FILL else lowered


METHOD = Method(
    name="lull",
    title="Lull",
    summary="Finds the pauses between phrases and lowers them, without touching words.",
    parameters=(
        Parameter("amount_db", "number", 12.0, "by how much pauses are lowered", (), "dB", 0.0, 60.0),
        Parameter("threshold_db", "number", 6.0, "how far over the noise floor a pause may be", (), "dB", 1.0, 30.0),
        Parameter("shortest_ms", "number", 180.0, "the shortest pause that is lowered", (), "ms", 50.0, 10_000.0),
        Parameter("breaths", "choice", "keep", "whether breaths are lowered with the pauses", ("keep", "lower")),
        Parameter("holes", "choice", "keep", "whether digital silence in pauses is filled with room tone",
                  ("keep", _FILL)),
        Parameter(RAMP_MS, "number", 60.0, "how long the level takes to fall and rise, inside a pause", (), "ms", 0.0,
                  1e4),
        *(parameter for parameter in COMMON if parameter.name != RAMP_MS),
    ),
    does=Treatment(
        process,
        context,
        lambda settings, _: float(settings["amount_db"]) == 0 and settings["holes"] != _FILL,
        told,
        learn,
        is_profile,
        places=places,
        measured_by=("threshold_db", "shortest_ms", "breaths", "holes"),
        is_quick=True,
    ),
)  # fmt: skip
