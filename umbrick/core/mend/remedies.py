"""Which mends are offered for which fault, best first: a new kind of finding, or another mend, is a line here."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace
from itertools import islice

import numpy as np

from umbrick.core.areas.area import Area
from umbrick.core.areas.harmonics import sounding_harmonics
from umbrick.core.areas.placed import line_at
from umbrick.core.measure.level_part import change_at, part_beside
from umbrick.core.measure.pauses import nearest_pause
from umbrick.core.mend.areas import area
from umbrick.core.mend.cutting import collapse, reorder, slip, splice
from umbrick.core.mend.cutting.joins import joins
from umbrick.core.mend.declipping import declip
from umbrick.core.mend.declipping.soft_knee import SEEN_SECONDS, Knee, soft_knee
from umbrick.core.mend.filling import bridge, graft
from umbrick.core.mend.filling.inserted_time import is_inserted, is_lost_sound
from umbrick.core.mend.impulses import declick, decrackle, dethump, redraw
from umbrick.core.mend.impulses.tick_or_break import lies_on_the_sound
from umbrick.core.mend.levelling import fade, level
from umbrick.core.mend.levelling.level_curve import HIGHEST_DB, LOWEST_DB
from umbrick.core.mend.method import Method
from umbrick.core.mend.parameters import Parameters
from umbrick.core.mend.place import Place
from umbrick.core.mend.voice import plosive, sibilance
from umbrick.core.survey.finding import Finding
from umbrick.core.timeline.version import Version
from umbrick.core.units import format_db, format_length

MOST = 5
"""So many are offered at most: one for each of the keys 1 to 5."""

_BRIDGED_SECONDS = 0.1
"""Gaps up to this long are bridged; a donor is the better choice for longer ones."""

_TONE_SECONDS, _BESIDE_PAUSE_SECONDS = 0.02, 0.1
_BREAK_SECONDS = 0.001
_CLOSED = "Close up"
_CURVED_SAMPLES = 8
_THUMPING_DB = -12.0
"""Clicks that lie further below the sound around set nothing going."""

_THUMP_BESIDE_SECONDS = 0.02
_PLOSIVE_BESIDE_SECONDS = 0.01
_SAME_RAIL = 1e-4
_FADES_MS = (10, 3)
_PEAK_RAMP_MS, _PART_RAMP_MS = 5.0, 100.0
_STILL_STEPS, _THEREABOUTS_SECONDS = 0.35, 2.0
_END = {"in": "start", "out": "end"}


@dataclass(frozen=True, slots=True)
class Adjustment:
    """Settings that hold for more than one place: of which mend, and whether they tell of all of the recording."""

    title: str
    method: Method
    settings: Parameters
    is_of_recording: bool = False

    def at(self, finding: Finding) -> Remedy:
        """Return the mend of a finding with these settings."""
        place = Place.of(finding)
        return Remedy(self.title, "", self.method, self.settings, place, is_of_recording=self.is_of_recording)


@dataclass(frozen=True)
class Remedy:
    """One mend for a fault: what it is called, and what makes it.

    ``effort`` tells how long it takes beside the others, so that the quick ones can be shown first.
    """

    title: str
    summary: str
    method: Method
    settings: Parameters
    place: Place
    effort: int = 1
    is_of_recording: bool = False
    """Whether its settings tell of all of the recording: what was found out at one place holds for its kind."""
    is_advised: bool = True
    """Whether it can be expected to better things; if not, it is made when a person asks for it."""
    is_from_lanes: bool = False
    """Whether it is filled from linked recordings, whatever the method."""
    unadjusted: Remedy | None = None
    """What it was before a person changed its settings."""

    @property
    def is_adjusted(self) -> bool:
        """Whether a person changed its settings."""
        return self.unadjusted is not None

    @property
    def usual_settings(self) -> Parameters:
        """Its settings before a person changed them."""
        return self.unadjusted.settings if self.unadjusted else self.settings

    def adjusted(self, settings: Parameters) -> Remedy:
        """Return the same with settings of a person's own, or as it was if they are the usual ones."""
        usual = self.unadjusted or self
        if self.method.checked(settings) == self.method.checked(usual.settings):
            return usual
        return replace(usual, settings=settings, summary="with settings of your own", unadjusted=usual)

    @property
    def adjustment(self) -> Adjustment:
        """Its settings, for other places."""
        return Adjustment(self.title, self.method, self.settings, self.is_of_recording)

    def adjusted_as(self, other: Adjustment | None) -> Remedy:
        """Return the same as it was adjusted for another place, if it was."""
        is_same = other is not None and (other.title, other.method) == (self.title, self.method)
        return self.adjusted(other.settings) if other is not None and is_same else self


Offering = Callable[[Finding, Version], Iterable[Remedy]]
"""Gives the remedies of a finding, best first; where finding one out takes time, only when it is come to."""


def remedies(finding: Finding, version: Version, preferred: str = "") -> list[Remedy]:
    """Return what is offered for a finding, best first; nothing if no method mends its kind yet.

    ``preferred`` is the title of the one that did best in a rehearsal.
    """
    offering = _OFFERINGS.get(finding.kind)
    offered = islice(offering(finding, version), MOST) if offering else ()
    return sorted(offered, key=lambda remedy: remedy.title != preferred)


def first_remedy(finding: Finding, version: Version, preferred: str = "") -> Remedy | None:
    """Return the first of the :func:`remedies`, or None if there are none; the others are not found out."""
    offering = _OFFERINGS.get(finding.kind)
    if offering is None:
        return None
    first = None
    for remedy in islice(offering(finding, version), MOST):
        first = first or remedy
        if not preferred or remedy.title == preferred:
            return remedy
    return first


def is_mendable(kind: str) -> bool:
    """Whether there is a method for a kind of finding."""
    return kind in _OFFERINGS


def remedies_of_selection(place: Place, version: Version) -> list[Remedy]:
    """Return what is offered for a place a person selected, best first."""
    return list(islice(_for_gap(place, version), MOST))


def _clipping(finding: Finding, version: Version) -> Iterator[Remedy]:
    place = Place.of(finding)
    yield from (
        Remedy("All that is known", "what the others agree on", declip.METHOD, {}, place, 3),
        Remedy("Sparse spectrum", "the fewest tones that explain what is left", declip.METHOD, {"using": "sparse"},
               place, 2),
        Remedy("Linear prediction", "follows the resonances on both sides", declip.METHOD, {"using": "prediction"},
               place),
        Remedy("Smooth curve", "the smoothest way over the gap", declip.METHOD, {"using": "curve"}, place, 0),
    )  # fmt: skip
    knee = _knee_at(finding, version)
    if knee is not None:
        settings = {"knee_db": round(knee.below_db, 1), "knee_stretch": round(knee.stretch, 2)}
        words = f"straightens what is bent from {knee.below_db:.1f} dB below the rail on"
        yield Remedy("And its soft knee", words, declip.METHOD, settings, place, 3, is_of_recording=True)


def _knee_at(finding: Finding, version: Version) -> Knee | None:
    """Return the soft knee that the sound around a clipped place shows, if any."""
    beside = round(SEEN_SECONDS / 2 * version.rate)
    first, last = max(0, finding.start - beside), min(version.frames, finding.stop + beside)
    wave = version.read(first, last)[:, finding.channels[0]].astype(np.float64)
    rail = np.abs(wave[finding.start - first : finding.stop - first]).min(initial=np.inf)
    return soft_knee(wave, np.abs(wave) >= rail * (1 - _SAME_RAIL))


def _click(finding: Finding, version: Version) -> list[Remedy]:
    place = Place.of(finding)
    made = [
        Remedy("As far as it reaches", "finds where the damage begins and ends, and rebuilds that", declick.METHOD, {},
               place, 0),
        Remedy("Just what was found", "rebuilds the samples the survey marked", declick.METHOD, {"extent": "as_found"},
               place, 0),
        Remedy("Bridge", "both sides, like sound nearby, and intact channels", bridge.METHOD, {"crossfade_ms": 0.5},
               place, 2),
    ]  # fmt: skip
    if finding.kind == "click" and finding.detail.get("relative_db", 0.0) >= _THUMPING_DB:
        made.append(
            Remedy("And its thump", "rebuilds it, and takes out the slow swing that it set going", dethump.METHOD, {},
                   place, 1)
        )  # fmt: skip
    if place.stop - place.start <= _CURVED_SAMPLES:
        made.append(Remedy("Curve", "the smoothest way over it", redraw.METHOD, {"shape": "curve"}, place, 0))
    return made


def _crackle(finding: Finding, version: Version) -> list[Remedy]:
    place = Place.of(finding)
    return [
        Remedy("Usual", "what stands out clearly", decrackle.METHOD, {}, place),
        Remedy("Gentle", "just what stands out by far", decrackle.METHOD, {"amount": 0.4}, place),
        Remedy("Strong", "whatever might be crackle", decrackle.METHOD, {"amount": 1.0}, place),
    ]


def _dropout(finding: Finding, version: Version) -> Iterator[Remedy]:
    place = Place.of(finding)
    offered = _for_gap(place, version)
    if finding.detail.get("concealed"):
        # A decoder made it up from more than can be heard from outside: filled anew it is mostly worse.
        yield from (replace(remedy, is_advised=False) for remedy in offered)
        return
    is_blank = is_inserted(version, place)
    if is_blank:
        words = "the sound goes on where it broke off: the blank was put in, and no time is lost"
        yield Remedy(_CLOSED, words, splice.METHOD, {"search_ms": 0.0, "crossfade_ms": 0.0}, place, 0)
    yield from (remedy for remedy in offered if not (is_blank and remedy.title == _CLOSED))


def _for_gap(place: Place, version: Version) -> Iterator[Remedy]:
    """Yield fillings of a gap, best first, and closing it up."""
    seconds = (place.stop - place.start) / version.rate
    bridges = [
        Remedy("All that is known", "both sides, like sound nearby, and intact channels", bridge.METHOD, {}, place, 2),
        Remedy("Both sides", "goes on with the resonances of both sides", bridge.METHOD, {"using": "prediction"}, place,
               0),
    ]  # fmt: skip
    bridges = bridges if seconds <= bridge.LONGEST_SECONDS else []
    grafts = [
        Remedy("Like sound nearby", "the donor that goes on best on both sides", graft.METHOD, {}, place),
        Remedy("Second donor", "another stretch that goes on well", graft.METHOD, {"choice": 2}, place),
        Remedy("Like sound anywhere", "the best donor in all of the recording", graft.METHOD, {"search": "all"}, place,
               4),
    ]  # fmt: skip
    is_long = seconds > _BRIDGED_SECONDS
    yield (grafts if is_long else bridges)[0]
    if seconds >= _TONE_SECONDS and _lies_in_a_pause(place, version):
        tone = Remedy("Room tone", "more of what the pause around it is made of", graft.METHOD,
                      {"donor": graft.ROOM_TONE}, place)  # fmt: skip
        bridges = [*bridges, tone]
    filled = [*grafts[: MOST - 1 - len(bridges)], *bridges] if is_long else [*bridges, *grafts]
    yield from filled[1 : MOST - 1]
    if place.stop - place.start < version.frames:
        yield Remedy(_CLOSED, "takes the gap out and joins what is left", splice.METHOD, {}, place)


def _lies_in_a_pause(place: Place, version: Version) -> bool:
    """Whether there is nothing but room tone just before, or just after, a place."""
    pause = nearest_pause(version, place.start, (place.start, place.stop))
    beside = round(_BESIDE_PAUSE_SECONDS * version.rate)
    return pause is not None and (0 <= place.start - pause[1] <= beside or 0 <= pause[0] - place.stop <= beside)


def _discontinuity(finding: Finding, version: Version) -> Iterator[Remedy]:
    if finding.detail.get("swapped_frames"):
        yield Remedy("Put in order", "the two pieces change places again", reorder.METHOD, {}, Place.of(finding), 0)
        yield from _for_gap(Place.of(finding), version)
        return
    tick = Remedy("As far as it reaches", "a few wrong samples: finds where they begin and end, and rebuilds those",
                  declick.METHOD, {}, Place.of(finding), 0)  # fmt: skip
    is_tick = lies_on_the_sound(finding, version)
    if is_tick:
        yield tick
    beside = max(2, round(_BREAK_SECONDS * version.rate))
    place = Place.of(finding)._replace(
        start=max(0, finding.start - beside), stop=min(version.frames, finding.stop + beside)
    )
    exact = Place.of(finding)
    yield from (
        Remedy("Bridge the break", "rebuilds a millisecond on either side of it", bridge.METHOD,
               {"crossfade_ms": 2.0}, place),
        Remedy("Both sides", "goes on with the resonances of both sides", bridge.METHOD,
               {"using": "prediction", "crossfade_ms": 2.0}, place, 0),
        Remedy(_CLOSED, "joins what is alike on both sides of it, a little shorter", splice.METHOD, {}, exact),
    )  # fmt: skip
    if not is_tick:
        yield tick


def _thump(finding: Finding, version: Version) -> list[Remedy]:
    place = Place.of(finding)
    beside = round(_THUMP_BESIDE_SECONDS * version.rate)
    wider = place._replace(start=max(0, place.start - beside), stop=min(version.frames, place.stop + beside))
    return [
        Remedy("Lowest octaves", "goes on below 110 Hz as on both sides; nothing above is touched", dethump.METHOD,
               {"click": "none"}, wider, 1),
        Remedy("Longer", "the same with as much again after it", dethump.METHOD, {"click": "none"},
               wider._replace(stop=min(version.frames, wider.stop + place.stop - place.start)), 1),
    ]  # fmt: skip


def _plosive(finding: Finding, version: Version) -> list[Remedy]:
    beside = round(_PLOSIVE_BESIDE_SECONDS * version.rate)
    place = Place.of(finding)
    place = place._replace(start=max(0, place.start - beside), stop=min(version.frames, place.stop + beside))
    return [
        Remedy("Own low end", "the burst no stronger than this voice is down there; the consonant stays",
               plosive.METHOD, {}, place, 1),
        Remedy("Low cut", "all below the burst's crossover lowered by 24 dB", plosive.METHOD,
               {"using": "cut", "amount_db": 24.0}, place, 1),
        Remedy("Dip", "the place 6 dB softer, by ramps", level.METHOD, {"gain_db": -6.0, "ramp_ms": 10.0}, place, 0),
    ]  # fmt: skip


def _sibilance(finding: Finding, version: Version) -> list[Remedy]:
    place = Place.of(finding)
    return [
        Remedy("Like the others", "as bright as this voice's other consonants", sibilance.METHOD, {}, place, 1),
        Remedy("Shelf", "its highs 6 dB softer", sibilance.METHOD, {"using": "shelf", "amount_db": 6.0}, place, 1),
        Remedy("Dip", "the place 4 dB softer, by ramps", level.METHOD, {"gain_db": -4.0, "ramp_ms": 10.0}, place, 0),
    ]  # fmt: skip


def _slip(finding: Finding, version: Version) -> list[Remedy]:
    place = Place.of(finding)
    is_many = finding.detail.get("samples", 1) > 0
    title, words, samples = (
        ("Take it out", "the sample that is too many goes", "too_many")
        if is_many
        else ("Put it in", "the sample that is missing, as the sound on both sides has it", "too_few")
    )
    around = place._replace(start=max(0, place.start - 1), stop=min(version.frames, place.stop + 1))
    return [
        Remedy(title, words, slip.METHOD, {"samples": samples}, place, 0),
        Remedy(
            "Bridge it", "rebuilds a few samples; the time stays as it is", bridge.METHOD, {"crossfade_ms": 0.5}, around
        ),
    ]


def _stutter(finding: Finding, version: Version) -> Iterator[Remedy]:
    place = Place.of(finding)
    keeps = Remedy("Keep the length", "fills the place from both sides and like sound nearby", collapse.METHOD,
                   {"time": "keep"}, place, 2)  # fmt: skip
    # An exact repeat that nothing joins stands for a buffer that never came.
    turn = place._replace(start=max(0, place.stop - int(finding.detail.get("lag", 0))))
    is_lost = bool(finding.detail.get("exact")) and is_lost_sound(version, turn)
    if is_lost:
        yield replace(keeps, summary="what came again stands for sound that is lost; no time was added")
    yield Remedy("Take it out", "joins the same turn of the wave before and after it", collapse.METHOD, {}, place)
    length_ms = 1000 * (place.stop - place.start) / version.rate
    for join in joins(version, place)[1:3]:
        removed_ms = 1000 * join.removed / version.rate
        words = "Take out less" if removed_ms < length_ms else "Take out more"
        yield Remedy(words, f"{removed_ms:.0f} ms go, where both sides are alike too", collapse.METHOD,
                     {"removed_ms": removed_ms}, place)  # fmt: skip
    if not is_lost:
        yield keeps
    yield Remedy(
        "Pay back", "takes it out, and makes the next pause longer", collapse.METHOD, {"time": "payback"}, place
    )


def _peak(finding: Finding, version: Version) -> list[Remedy]:
    place = Place.of(finding)
    excess_db = float(finding.detail.get("excess_db", 6.0))
    return [
        Remedy(f"Lower by {lowered_db:.1f} dB", words, level.METHOD,
               {"gain_db": -round(lowered_db, 1), "ramp_ms": _PEAK_RAMP_MS}, place, 0)
        for lowered_db, words in (
            (excess_db, "as loud as what is around it"),
            (excess_db / 2, "half the way"),
        )
    ]  # fmt: skip


def _level_step(finding: Finding, version: Version) -> list[Remedy]:
    change_db = float(finding.detail["change_db"])
    # A part that was levelled from its other end no longer steps here.
    if change_at(version, finding.start) * np.sign(change_db) < _STILL_STEPS * abs(change_db):
        return []
    found = [
        (part, gain_db, title)
        for is_after, gain_db, title in (
            (True, -change_db, "Level what follows"),
            (False, change_db, "Level the part before"),
        )
        if (part := _levelled_part(finding, version, is_after)) is not None
    ]
    # A part between others is more likely the odd one than what the recording begins or ends with.
    found.sort(key=lambda entry: (entry[0][0] == 0 or entry[0][1] == version.frames, entry[0][1] - entry[0][0]))
    channels = tuple(range(version.channels))
    made = []
    for (start, stop), gain_db, title in found:
        gain_db = round(min(max(gain_db, LOWEST_DB), HIGHEST_DB), 1)
        length = format_length(stop - start, version.rate)
        place = Place(start, stop, channels, (finding.id,))
        made.append(
            Remedy(
                title,
                f"{length} by {format_db(gain_db, 'dB')}, by ramps: as loud as the other side",
                level.METHOD,
                {"gain_db": gain_db, "ramp_ms": _PART_RAMP_MS},
                place,
                0,
            )
        )
    if made:
        half_db = round(float(made[0].settings["gain_db"]) / 2, 1)
        words = f"the same part by {format_db(half_db, 'dB')}"
        made.append(
            replace(made[0], title="Half the way", summary=words, settings={**made[0].settings, "gain_db": half_db})
        )
    return made


def _levelled_part(finding: Finding, version: Version, is_after: bool) -> tuple[int, int] | None:
    """Return the part on one side of a level step; it ends where the level steps back, if it does thereabouts."""
    part = part_beside(version, finding.start, is_after)
    frames = int(finding.detail.get("to_next" if is_after else "to_previous", 0))
    if part is None or not frames or abs(frames - (part[1] - part[0])) > _THEREABOUTS_SECONDS * version.rate:
        return part
    return (finding.start, finding.start + frames) if is_after else (finding.start - frames, finding.start)


def _intrusion(finding: Finding, version: Version) -> list[Remedy]:
    if outline := finding.detail.get("outline"):
        harmonics = int(finding.detail.get("harmonics", 1))
        return remedies_of_area(Place.of(finding), Area.parsed(str(outline), harmonics))
    low, high = finding.detail.get("band_hz", (0.0, version.rate / 2))
    channel = finding.channels[0]
    where = line_at(version, channel, finding.start, finding.stop, (low, high))
    harmonics = sounding_harmonics(version, channel, where.start, where.area)
    place = Place(where.start, where.stop, finding.channels, (finding.id,))
    return remedies_of_area(place, replace(where.area, harmonics=harmonics))


def remedies_of_area(place: Place, where: Area) -> list[Remedy]:
    """Return what is offered for an area, counted from the start of its place, best first."""
    settings = area.settings_of(where)
    return [
        Remedy("Rebuild", "takes its tones out, and brings the rest of it to what is around",
               area.METHOD, settings, place, 2),
        Remedy("Lower to what is around", "no louder than what is before, after, above and below it",
               area.METHOD, {**settings, "action": "auto"}, place, 1),
        Remedy("As before and after", "the same, by just what is before and after it",
               area.METHOD, {**settings, "action": "auto", "sides": "both"}, place, 1),
        Remedy("Lower by 24 dB", "by one gain", area.METHOD, {**settings, "action": "level"}, place, 0),
    ]  # fmt: skip


def _hard_edge(finding: Finding, version: Version) -> list[Remedy]:
    at_start = finding.start < version.frames // 2
    direction = "in" if at_start else "out"
    made = []
    for milliseconds in _FADES_MS:
        length = min(version.frames, max(1, round(milliseconds * version.rate / 1000)))
        start = 0 if at_start else version.frames - length
        place = Place(start, start + length, finding.channels, (finding.id,))
        title = f"Fade {direction}, {milliseconds} ms"
        made.append(Remedy(title, f"a soft {_END[direction]}", fade.METHOD, {"direction": direction}, place, 0))
    return made


_OFFERINGS: dict[str, Offering] = {
    "clipping": _clipping,
    "click": _click,
    "mouth_click": _click,
    "crackle": _crackle,
    "dropout": _dropout,
    "discontinuity": _discontinuity,
    "stutter": _stutter,
    "slip": _slip,
    "thump": _thump,
    "plosive": _plosive,
    "sibilance": _sibilance,
    "peak": _peak,
    "hard_edge": _hard_edge,
    "level_step": _level_step,
    "intrusion": _intrusion,
}
