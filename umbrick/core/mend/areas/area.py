"""Area: changes what lies in an area of time and frequency, by a level, down to what is around, or rebuilt from it."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from umbrick.core.areas.area import MOST_HARMONICS, Area, band_over
from umbrick.core.areas.around import SIDES
from umbrick.core.areas.treating import CONTEXT_SECONDS, Treating, copied, treated
from umbrick.core.errors import CancelledError, ParameterError
from umbrick.core.mend.making import Wave, already_made
from umbrick.core.mend.method import Method, Reworked, Reworking, Stretch
from umbrick.core.mend.parameters import Parameter, Parameters, band_of
from umbrick.core.mend.place import Place
from umbrick.core.timeline.patch import Nature
from umbrick.core.timeline.version import Version

_LONGEST_SECONDS = 300.0


def area_of(parameters: Parameters, frames: int, rate: int) -> Area:
    """Return the area that parameters mean on a place of so many frames, counted from its start."""
    harmonics = int(float(parameters["harmonics"]))
    band = band_of(str(parameters["band_hz"]))
    if parameters["outline"]:
        return Area.parsed(str(parameters["outline"]), harmonics)
    low, high = band or (0.0, rate / 2)
    return Area(band_over(frames, low, high).parts, harmonics)


def settings_of(area: Area) -> dict[str, float | str]:
    """Return the settings that mean an area, counted from the start of its place."""
    meant: dict[str, float | str] = {"outline": area.text}
    if area.harmonics > 1:
        meant["harmonics"] = float(area.harmonics)
    return meant


def rework(version: Version, place: Place, parameters: Parameters, is_cancelled: Callable[[], bool]) -> Reworked:
    """Return a place with its area changed.

    Raises
    ------
    ParameterError
        If the area lies outside of the place, or holds no frequency of the recording, or the place is too long.
    """
    frames, rate = place.stop - place.start, version.rate
    if frames > _LONGEST_SECONDS * rate:
        raise ParameterError(
            "An area is at most five minutes long.", "A filter over a band, or a step of the course, can be longer."
        )
    area = area_of(parameters, frames, rate)
    start, stop, low, _ = area.extent
    if stop <= 0 or start >= frames or low >= rate / 2:
        raise ParameterError("The area holds nothing of the recording there.")
    reach = round(CONTEXT_SECONDS * rate)
    first = max(0, place.start - reach)
    made = version.read_exact(first, min(version.frames, place.stop + reach))
    treating = Treating(
        str(parameters["action"]),
        float(parameters["gain_db"]),
        float(parameters["strength"]) / 100,
        str(parameters["sides"]),
        float(parameters["soft_hz"]),
    )
    for channel in place.channels:
        if is_cancelled():
            raise CancelledError
        span = place.start - first, place.stop - first
        wave = made[:, channel]
        if treating.action == "copy":
            donor = _donor(version, channel, parameters, place.start - first, len(made))
            made[span[0] : span[1], channel] = copied(donor, wave, span, area, rate, treating)
        else:
            made[span[0] : span[1], channel] = treated(wave, span, area, rate, treating)
    nature = Nature.REBUILT if treating.action == "rebuild" else Nature.FILTERED
    return Reworked(
        (Stretch(place.start, place.stop, already_made(version, place, made, first, nature)),), place, parameters
    )


def _donor(version: Version, channel: int, parameters: Parameters, before: int, frames: int) -> Wave:
    """Return as much sound as a place has with what is around it, from so many frames before the donor on."""
    start = int(float(parameters["donor"]))
    if start >= version.frames:
        raise ParameterError("The recording ends before the donor begins.")
    first, last = max(0, start - before), min(version.frames, start - before + frames)
    wave = version.read_exact(first, last)[:, channel]
    return np.pad(wave, (first - (start - before), frames - (last - (start - before))))


def _checked_outline(text: str) -> None:
    if text:
        Area.parsed(text)


METHOD = Method(
    name="area",
    title="Area",
    summary="Changes what lies in an area of time and frequency: by a level, down to what is around, or rebuilt.",
    parameters=(
        Parameter("band_hz", "band", "", "from which to which frequency, over all of the place", (), "Hz"),
        Parameter(
            "action",
            "choice",
            "rebuild",
            "by the gain; auto: down to what is around; rebuilt from what is around; or a copy of the donor",
            ("level", "auto", "rebuild", "copy"),
        ),
        Parameter("donor", "number", 0.0, "for copy: the frame that answers to the place's start", (), "", 0.0, 1e12),
        Parameter("gain_db", "number", -24.0, "by how much, for level", (), "dB", -120.0, 40.0),
        Parameter("strength", "number", 100.0, "how much of it is done", (), "%", 0.0, 100.0),
        Parameter("sides", "choice", "auto", "which surroundings tell what would be there", SIDES),
        Parameter(
            "harmonics", "number", 1.0, "at how many multiples of its frequencies", (), "", 1.0, float(MOST_HARMONICS)
        ),
        Parameter("soft_hz", "number", 60.0, "how softly it ends in frequency", (), "Hz", 0.0, 2000.0),
        Parameter("outline", "text", "", "points FRAME:HZ from the place's start, not a band", check=_checked_outline),
    ),
    does=Reworking(rework),
)
