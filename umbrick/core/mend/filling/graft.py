"""Grafting: fills a place with sound from elsewhere, joined by crossfades."""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.errors import ParameterError
from umbrick.core.measure.seam import seam_scores
from umbrick.core.mend.cutting.crossfade import AUTO, crossfaded
from umbrick.core.mend.filling.donors import donors, donors_anywhere
from umbrick.core.mend.filling.room_tone import room_tone_near
from umbrick.core.mend.making import standing_for
from umbrick.core.mend.method import Method, Reworked, Reworking, Stretch
from umbrick.core.mend.parameters import Parameter, Parameters
from umbrick.core.mend.place import Place
from umbrick.core.sound.band_limited import CURVE_CONTEXT, shifted
from umbrick.core.sound.source import ArraySource, Source
from umbrick.core.timeline.patch import Nature, Patch
from umbrick.core.timeline.positions import origin_of_place, place_of_origin
from umbrick.core.timeline.runs import NO_ORIGIN, Piece
from umbrick.core.timeline.version import Version
from umbrick.core.units import amplitude_to_db, db_to_amplitude

Wave = npt.NDArray[np.float64]

CROSSFADE_MS = 5.0
ROOM_TONE = "room_tone"
_MOST_SAMPLES = 1 << 27
_SCORED_SECONDS = 1.0
_DB_DIGITS = 4


@dataclass(frozen=True)
class Clip:
    """A span of a version that was copied: nothing is read until it is put somewhere.

    ``channels`` are those that were copied.
    """

    version: Version
    start: int
    stop: int
    channels: tuple[int, ...]

    @property
    def frames(self) -> int:
        """Its length."""
        return self.stop - self.start

    def read(self, start: int, stop: int) -> Wave:
        """Return frames counted from the clip's start, which may lie up to its version's ends; silence beyond."""
        sound = np.zeros((stop - start, len(self.channels)))
        first, last = max(0, self.start + start), min(self.version.frames, self.start + stop)
        if first < last:
            at = first - self.start - start
            sound[at : at + last - first] = self.version.read_exact(first, last)[:, list(self.channels)]
        return sound


class Filled(NamedTuple):
    """A filling: what comes instead, where it was taken from (a frame of the version, or between two), the factor it
    was levelled by, and its seam score."""

    stretch: Stretch
    donor: float
    gain: float
    score: float


def filled(
    version: Version,
    place: Place,
    donor: float | str = AUTO,
    fade: int = 0,
    gain: float | None = None,
    adds: bool = False,
    choice: int = 1,
    anywhere: bool = False,
    donor_channels: tuple[int, ...] | None = None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> Filled:
    """Return a place filled with a stretch of the same length from elsewhere in the version.

    Parameters
    ----------
    version : Version
    place : Place
    donor : float or "auto"
        The frame it begins with, or a place between two; ``auto`` takes one of the best matches.
    fade : int
        Length of the crossfades in frames; they lie outside the place, on both sides.
    gain : float, optional
        Factor, negative to invert the polarity; by default what matches best, 1 for a donor that is given.
    adds : bool
        Whether it is mixed to what is there instead of replacing it.
    choice : int
        Which of the best matches ``auto`` takes, counted from 1.
    anywhere : bool
        Whether ``auto`` looks through all of the recording at once; else it does so if nothing nearby will do.
    donor_channels : tuple of int, optional
        The channels its sound is taken from, by default the place's own.
    is_cancelled : callable
        CancelledError is raised soon after it says so.

    Raises
    ------
    ParameterError
        If nothing is long enough, or a given donor does not lie in the recording.
    """
    length = place.stop - place.start
    if donor == AUTO:
        channels = list(place.channels)
        found = [] if anywhere else donors(version, place.start, place.stop, channels, count=choice)
        if len(found) < choice:
            found = donors_anywhere(version, place.start, place.stop, channels, choice, is_cancelled)
        if len(found) < choice:
            which = "No stretch" if choice == 1 else f"No {choice} stretches"
            raise ParameterError(
                f"{which} of the recording is like what is around this place.", "Select less, or close up."
            )
        match = found[choice - 1]
        start, offset, matched = match.start, match.offset, _told(match.gain)
    else:
        start, matched = round(float(donor)), 1.0
        offset = float(donor) - start
        if not 0 <= start <= version.frames - length:
            raise ParameterError(f"A donor of {length} frames cannot begin at frame {start}.")
    clip = Clip(version, start, start + length, donor_channels or place.channels)
    gain = matched if gain is None else gain
    stretch = put_over(version, place, clip, fade, gain, adds, offset)
    return Filled(stretch, start + offset, gain, score(version, place, stretch))


def put_over(
    version: Version,
    place: Place,
    clip: Clip,
    fade: int,
    gain: float = 1.0,
    adds: bool = False,
    offset: float = 0.0,
) -> Stretch:
    """Return the stretch in which a clip stands in a place of its length, joined by crossfades.

    The crossfades lie outside the place, and run over what is around the clip where it came from: nothing of the clip
    itself is lost. ``offset`` is the part of a frame by which it is taken later.
    """
    before = min(fade, place.start, clip.start)
    after = min(fade, version.frames - place.stop, clip.version.frames - clip.stop)
    start, stop = place.start - before, place.stop + after
    _refuse_too_long((stop - start) * version.channels)
    on = list(place.channels)
    samples = version.read_exact(start, stop)
    margin = CURVE_CONTEXT if offset else 0
    around = shifted(clip.read(-before - margin, clip.frames + after + margin), offset)
    incoming = gain * _on(around[margin : len(around) - margin], len(on))
    present = samples[:, on]
    if adds:
        ramp = np.ones((stop - start, 1))
        ramp[:before] = crossfaded(np.zeros((before, 1)), np.ones((before, 1)), "s")
        ramp[len(ramp) - after :] = crossfaded(np.ones((after, 1)), np.zeros((after, 1)), "s")
        made = present + ramp * incoming
    else:
        made = incoming.copy()
        made[:before] = crossfaded(present[:before], incoming[:before])
        made[len(made) - after :] = crossfaded(incoming[len(made) - after :], present[len(made) - after :])
    samples[:, on] = made.astype(np.float32)
    patch = Patch(samples, version.rate, Nature.GRAFTED, donor_of(version, clip))
    return Stretch(start, stop, standing_for(version, start, stop, patch))


def put_in(version: Version, position: int, clip: Clip, fade: int) -> Stretch:
    """Return the stretch in which a clip comes in before a frame; what follows comes later by its length.

    What is before goes over into the clip's first frames as it would have gone on, and the clip's last frames go over
    into what led to what follows: both crossfades lie inside the clip.
    """
    channels = version.channels
    _refuse_too_long(clip.frames * channels)
    fade = min(fade, clip.frames // 2)
    head, tail = min(fade, version.frames - position), min(fade, position)
    sound = _on(clip.read(0, clip.frames), channels)
    sound[:head] = crossfaded(version.read_exact(position, position + head), sound[:head])
    sound[len(sound) - tail :] = crossfaded(sound[len(sound) - tail :], version.read_exact(position - tail, position))
    patch = Patch(sound.astype(np.float32), version.rate, Nature.GRAFTED, donor_of(version, clip))
    return Stretch(position, position, (Piece(patch, 0, clip.frames, NO_ORIGIN),))


def donor_of(version: Version, clip: Clip) -> int | None:
    """Return the original's frame that a clip begins with, or None if it is from another recording."""
    original: Source = version.sources[0]
    if clip.version.sources[0] is not original:
        return None
    return origin_of_place(clip.version, clip.start)


def _place_of(version: Version, donor: float) -> float:
    """Return where a donor, given by its frame of the original, begins in a version.

    Raises
    ------
    ParameterError
        If that frame has been taken out of it.
    """
    frame = math.floor(donor)
    place = place_of_origin(version, frame)
    if not (place < version.frames and origin_of_place(version, place) == frame):
        raise ParameterError("The donor's sound is not in the recording any more.", "Choose another donor, or auto.")
    return place + donor - frame


def _channels_of(version: Version, text: str) -> tuple[int, ...] | None:
    if not text:
        return None
    channels = tuple(int(part) for part in text.split(","))
    if not all(channel < version.channels for channel in channels):
        raise ParameterError(f"The recording has no channels {text} to take a donor from.")
    return channels


def check_channels(text: str) -> None:
    """Raise ParameterError unless a text is a list of channels, such as ``0,1``, or nothing."""
    if text and not re.fullmatch(r"\d{1,3}(,\d{1,3})*", text):
        raise ParameterError(f"“{text}” is not a list of channels such as 0,1.")


def _with_room_tone(version: Version, place: Place, fade: int) -> Stretch:
    """Return a place filled with more of what the nearest pause is made of."""
    length = place.stop - place.start
    _refuse_too_long((length + 2 * fade) * version.channels)
    tone = room_tone_near(version, place.start, length + 2 * fade, (place.start - fade, place.stop + fade))
    source = ArraySource(tone, version.rate, f"room tone:{version.key}:{place}")
    return put_over(version, place, Clip(Version.of(source), fade, fade + length, place.channels), fade)


def rework(version: Version, place: Place, parameters: Parameters, is_cancelled: Callable[[], bool]) -> Reworked:
    """Return the place filled with a donor."""
    fade = round(float(parameters["crossfade_ms"]) * version.rate / 1000)
    donor = parameters["donor"]
    if donor == ROOM_TONE:
        stretch = _with_room_tone(version, place, fade)
        return Reworked((stretch,), place, parameters, score(version, place, stretch))
    gain = None
    if parameters["gain_db"] != AUTO:
        gain = db_to_amplitude(float(parameters["gain_db"]))
    if parameters["polarity"] == "inverted":
        gain = -(1.0 if gain is None else gain)
    found = filled(
        version,
        place,
        donor if donor == AUTO else _place_of(version, float(donor)),
        fade,
        gain,
        parameters["mix"] == "add",
        round(float(parameters["choice"])),
        parameters["search"] == "all",
        _channels_of(version, str(parameters["donor_channels"])),
        is_cancelled,
    )
    spelled_out = {
        # By its place in the original, which stays when something earlier is taken out or put in.
        "donor": origin_of_place(version, math.floor(found.donor)) + found.donor - math.floor(found.donor),
        "gain_db": _gain_db(found.gain),
        "polarity": "inverted" if found.gain < 0 else "same",
    }
    return Reworked((found.stretch,), place, dict(parameters) | spelled_out, found.score)


def score(version: Version, place: Place, stretch: Stretch) -> float:
    """Return the seam score of what stands in a place instead, in a stretch of the same length."""
    reach = round(_SCORED_SECONDS * version.rate)
    left = version.read_exact(max(0, stretch.start - reach), stretch.start)
    right = version.read_exact(stretch.stop, min(version.frames, stretch.stop + reach))
    middle = np.concatenate([p.source.read_exact(p.start, p.start + p.length) for p in stretch.pieces])
    sound = np.concatenate([left, middle, right]).astype(np.float64)
    made = np.zeros(sound.shape, np.bool_)
    start, stop = len(left), len(left) + len(middle)
    made[start:stop, list(place.channels)] = True
    return seam_scores(sound, made, np.array([start]), np.array([stop]), version.rate)[0]


def _gain_db(gain: float) -> float:
    return round(amplitude_to_db(gain), _DB_DIGITS)


def _told(gain: float) -> float:
    """Return a factor in whole parts of a dB, so that a setting can tell it exactly."""
    return math.copysign(db_to_amplitude(_gain_db(gain)), gain)


def _on(sound: Wave, channels: int) -> Wave:
    """Return a clip's sound for so many channels."""
    if sound.shape[1] == channels:
        return sound
    if sound.shape[1] == 1:
        return np.repeat(sound, channels, axis=1)
    raise ParameterError(
        f"{sound.shape[1]} copied channels cannot go on {channels}.", "Select as many channels as were copied."
    )


def _refuse_too_long(samples: int) -> None:
    if samples > _MOST_SAMPLES:
        raise ParameterError("That is too much sound to put in at once.", "Do it in parts of a quarter of an hour.")


METHOD = Method(
    name="graft",
    title="Graft",
    summary="Fills a place with similar sound from elsewhere in the recording.",
    parameters=(
        Parameter(
            "donor",
            "number",
            AUTO,
            "the frame of the original the donor begins with, parts of one too; auto finds the best match; room_tone "
            "is more of the nearest pause",
            (AUTO, ROOM_TONE),
            "",
            0.0,
            1e12,
        ),
        Parameter(
            "donor_channels",
            "text",
            "",
            "the channels the donor is taken from, such as 0,1; those of the place if not given",
            check=check_channels,
        ),
        Parameter(
            "search",
            "choice",
            "near",
            "where auto looks: within six seconds (beyond only if nothing is there), or in all of the recording",
            ("near", "all"),
        ),
        Parameter("choice", "number", 1.0, "which of the best matches auto takes, the best being 1", low=1.0, high=5.0),
        Parameter(
            "crossfade_ms", "number", CROSSFADE_MS, "length of the crossfades outside the place", (), "ms", 0.0, 2000.0
        ),
        Parameter(
            "gain_db", "number", AUTO, "level of the donor; auto matches what is around", (AUTO,), "dB", -60.0, 40.0
        ),
        Parameter("polarity", "choice", "same", "whether the donor's wave is turned over", ("same", "inverted")),
        Parameter(
            "mix", "choice", "replace", "whether the donor replaces what is there or is added", ("replace", "add")
        ),
    ),
    does=Reworking(rework, nature=Nature.GRAFTED),
)
