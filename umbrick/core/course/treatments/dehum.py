"""Dehum: the mains and its harmonics are measured wave by wave, and subtracted."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from umbrick.core.course.laid_filters import filtered_by, reach_of
from umbrick.core.course.step import Profile
from umbrick.core.course.treatment import COMMON, Block, Treatment, Wave
from umbrick.core.errors import ParameterError
from umbrick.core.filters.shapes import Point
from umbrick.core.mend.method import Method
from umbrick.core.mend.parameters import Parameter, Parameters
from umbrick.core.sound.source import Source
from umbrick.core.spectral.hum import (
    REACH,
    Complexes,
    Hum,
    HumTrack,
    Turned,
    fitted,
    found_hum,
    lead_frames,
    lowered_wave,
    moment_frames,
    moments,
    most_harmonics,
)
from umbrick.core.spectral.prints import ADAPTIVE, parsed_print

AUTO = "auto"
_SURE_DB, _SURE_WHERE_TYPED_DB = 15.0, 6.0
_NOTCH_HZ = 4.0
"""How wide the notches are at −3 dB, a quarter of their frequency at most."""


def process(block: Block, settings: Parameters, profile: Profile) -> Wave:
    """Return a block without the hum."""
    numbers = taken_harmonics(settings, profile, block.rate)
    if not numbers:
        return block.own
    if settings["using"] == "notch":
        return filtered_by(_notches(settings, profile, block.rate), block)
    length, step = moment_frames(block.rate)
    start, stop = block.start, block.start + len(block.own)
    # Amplitudes go from the middle of one moment to that of the next: one before the block is needed, and one after.
    first, last = start // length - 1, stop // length + 2
    count, lead = last - first + 2 * REACH, lead_frames(step)
    begin = (first - REACH) * length - lead - (start - block.before)
    whole = np.arange(count) + first - REACH
    is_inside = (whole >= 0) & ((whole + 1) * length <= max(length, block.frames))
    track = HumTrack(np.array(profile["hz"]))
    turned = track.turned((first - REACH) * length, step, count * length // step, block.rate)
    forward = track.turned(start, 1, stop - start, block.rate)
    made = block.own.copy()
    for channel in range(made.shape[1]):
        wave = block.samples[begin : begin + count * length + 2 * lead, channel].astype(np.float32)
        low = lowered_wave(wave, step, count * length // step)
        hum = fitted(moments(low, turned, length // step, max(numbers)), is_inside)
        hum[[number - 1 for number in range(1, max(numbers) + 1) if number not in numbers]] = 0
        made[:, channel] -= _waves(hum, forward, first * length + length / 2 - start, length)
    return made


def _waves(hum: Complexes, forward: Turned, middle: float, length: int) -> Wave:
    """Return the sum of waves whose amplitudes change straight from the middle of one moment to that of the next.

    Parameters
    ----------
    hum : ndarray, shape (harmonics, moments)
    forward : ndarray, shape (frames,)
        How the fundamental has turned.
    middle : float
        Of the first moment, in frames from the first of ``forward``; not after it.
    """
    made = np.zeros(len(forward))
    low = 0
    while low < len(forward):
        moment = int((low - middle) // length)
        high = min(len(forward), max(low + 1, int(np.ceil(middle + (moment + 1) * length))))
        turned = np.empty((len(hum), high - low), np.complex64)
        turned[0] = forward[low:high]
        for number in range(1, len(hum)):
            np.multiply(turned[number - 1], turned[0], out=turned[number])
        ends = np.stack([hum[:, moment], hum[:, moment + 1] - hum[:, moment]]).astype(np.complex64)
        here, change = (ends @ turned).real
        made[low:high] = here + (np.arange(low, high) - middle - moment * length) / length * change
        low = high
    return made


def taken_harmonics(settings: Parameters, profile: Profile, rate: int) -> list[int]:
    """Return which multiples are taken out."""
    hz = float(np.median(profile["hz"]))
    count = min(round(float(settings["harmonics"])), most_harmonics(rate, hz))
    spared = parsed_numbers(str(settings["spared"]))
    return [number for number in range(1, count + 1) if number not in spared]


def _notches(settings: Parameters, profile: Profile, rate: int) -> tuple[Point, ...]:
    hz = float(np.median(profile["hz"]))
    return tuple(
        Point("notch", round(hz * number, 2), 0.0, min(50.0, max(2.0, hz * number / _NOTCH_HZ)))
        for number in taken_harmonics(settings, profile, rate)
    )


def context(settings: Parameters, profile: Profile, rate: int) -> int:
    """Return the moments that a wave is fitted to, or how long the notches ring."""
    if settings["using"] == "notch":
        return reach_of(_notches(settings, profile, rate), rate)
    length, step = moment_frames(rate)
    return (REACH + 2) * length + 2 * lead_frames(step)


def learn(
    sound: Source,
    spans: Sequence[tuple[int, int]],
    channels: Sequence[int],
    settings: Parameters,
    progress: Callable[[float], None],
    is_cancelled: Callable[[], bool],
) -> Profile:
    """Return the fundamental through the recording, and the level of its first multiples.

    ParameterError if there is no hum.
    """
    typed = settings["fundamental_hz"]
    near_hz = None if typed == AUTO else float(typed)
    chosen = parsed_print(str(settings["print"]))
    if chosen and chosen[-1][1] > sound.frames:
        raise ParameterError("What the hum is to be learned from lies beyond the end of the recording.")
    hum = _surely_found(found_hum(sound, chosen or spans, channels, near_hz, progress, is_cancelled), near_hz)
    if chosen:
        # Beside the selection it is followed from there, as far as it is heard.
        whole = found_hum(sound, spans, channels, float(np.median(hum.track.hz)), progress, is_cancelled)
        if whole is not None and whole.evidence_db >= _SURE_WHERE_TYPED_DB:
            hum = replace(whole, levels_db=hum.levels_db)
    return {"hz": hum.track.hz.tolist(), "levels_db": list(hum.levels_db)}


def _surely_found(hum: Hum | None, near_hz: float | None) -> Hum:
    if hum is None:
        raise ParameterError("That is too short to tell hum from a tone: it takes two seconds.")
    if hum.evidence_db < (_SURE_DB if near_hz is None else _SURE_WHERE_TYPED_DB):
        place = "" if near_hz is None else f" near {near_hz:g} Hz"
        raise ParameterError(
            f"There is no steady hum{place} here.", "Type its fundamental if it is another than the mains'."
        )
    return hum


def parsed_numbers(text: str) -> frozenset[int]:
    """Return the numbers of a list such as ``3 5``; ParameterError if it is none."""
    words = text.replace(",", " ").split()
    if not all(word.isdigit() and 1 <= int(word) <= 99 for word in words):
        raise ParameterError(f"“{text}” is no list of harmonics.", "Write their numbers, such as 3 5.")
    return frozenset(map(int, words))


def is_profile(profile: Profile, channels: int) -> bool:
    """Return whether this is a track of a fundamental."""
    if set(profile) != {"hz", "levels_db"}:
        return False
    hz, levels_db = profile["hz"], profile["levels_db"]
    return (
        isinstance(hz, list)
        and len(hz) > 0
        and all(type(value) is float and 5 < value < 1000 for value in hz)
        and isinstance(levels_db, list)
        and all(type(value) is float for value in levels_db)
    )


def told(settings: Parameters, profile: Profile) -> str:
    """Return which hum is taken out."""
    if not profile:
        return "Hum"
    way = ", notched" if settings["using"] == "notch" else ""
    return f"Hum {float(np.median(profile['hz'])):.2f} Hz{way}"


METHOD = Method(
    name="dehum",
    title="Dehum",
    summary="Subtracts the mains and its harmonics, wave by wave, as they drift.",
    parameters=(
        Parameter("fundamental_hz", "number", AUTO, "of the hum; auto looks for 50, 60 and 16⅔ Hz", (AUTO,), "Hz",
                  10.0, 500.0),
        Parameter("harmonics", "number", 16.0, "how many multiples are taken out, the fundamental included", (), "",
                  1.0, 99.0),
        Parameter("spared", "text", "", "the numbers of those that are left as they are", check=parsed_numbers),
        Parameter("print", "text", ADAPTIVE, "where there is nothing but hum, as START-END in frames, or adaptive",
                  check=parsed_print),
        Parameter("using", "choice", "subtract", "fitted waves that are subtracted, or notches",
                  ("subtract", "notch")),
        *COMMON,
    ),
    does=Treatment(
        process,
        context,
        lambda settings, profile: False,
        told,
        learn,
        is_profile,
        measured_by=("fundamental_hz", "print"),
    ),
)  # fmt: skip
