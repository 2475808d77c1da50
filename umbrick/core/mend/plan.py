"""A plan: which findings are mended by which method, with settings alike done together."""

from __future__ import annotations

from bisect import bisect_right
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from types import MappingProxyType
from typing import NamedTuple

from umbrick.core.errors import CancelledError, ParameterError
from umbrick.core.mend.applying import Mended, apply_method, better_left, together_where_apart, too_close
from umbrick.core.mend.method import Method
from umbrick.core.mend.parameters import Parameters
from umbrick.core.mend.place import Place
from umbrick.core.mend.remedies import Adjustment, Remedy, first_remedy, is_mendable
from umbrick.core.mend.side_by_side import uses_processes
from umbrick.core.mend.taken_out import is_the_sound_itself
from umbrick.core.names import KIND_NAMES
from umbrick.core.survey.finding import Finding
from umbrick.core.timeline.history import Edit, Mend
from umbrick.core.timeline.version import Version

SURE_ENOUGH = 0.75
"""What no one asked for is mended only if it is so sure: sound that is good must stay."""

_A_PART, _A_PART_FOR_MANY = 32, 4096
"""Places that are done together, and are there when a person stops the rest; more where processes share them."""

_NEAR_SECONDS = 0.01
"""No method that mends many places alike reaches further outside of one."""

_APART_SECONDS = 0.5
"""Parts are cut where this much lies between two places, so that no method's context or crossfade reaches across."""


class Batch(NamedTuple):
    """Places that one method mends with the same settings."""

    method: Method
    settings: Parameters
    places: list[Place]


class Refused(NamedTuple):
    """A place that its method could not mend, and why."""

    place: Place
    why: ParameterError


class CarriedOut(NamedTuple):
    """What became of some batches: what was mended, as one change, or None; and what could not be."""

    mended: Mended | None
    refused: tuple[Refused, ...]


@dataclass(frozen=True)
class Plan:
    """Which findings are to be mended, and how: window and command line both do this and nothing else.

    ``findings`` are without exceptions, and what is too doubtful. ``preferred`` gives for kinds the title of the
    mend that did best in a rehearsal or is chosen, ``settled`` settings that a person changed, or that are those of the
    recording. With ``spares_the_sound`` clicks are left that the sound is made of: nobody asked for them by name.
    """

    findings: tuple[Finding, ...]
    preferred: Mapping[str, str] = field(default_factory=dict)
    settled: Mapping[str, Adjustment] = field(default_factory=dict)
    spares_the_sound: bool = False

    def stages(self, version: Version) -> list[list[Batch]]:
        """Return what is done one after another: a kind at a time, on what the kinds before have left.

        What changes the length comes last, all at once, so that the places of findings stay right.
        """
        alone = apart(self.findings, version.rate)
        by_kind = [
            planned([f for f in alone if f.kind == kind], version, self.preferred, self.settled)
            for kind in KIND_NAMES
            if any(f.kind == kind for f in alone)
        ]
        steady = [[batch for batch in batches if batch.method.time_shift == "none"] for batches in by_kind]
        shifting = [batch for batches in by_kind for batch in batches if batch.method.time_shift != "none"]
        return [batches for batches in (*steady, shifting) if batches]


class Outcome(NamedTuple):
    """What became of a plan.

    ``stages`` are what was mended, each on the version that the one before left. ``better_left`` counts findings that
    no mend is expected to better, ``made_of`` clicks that the sound is made of.
    """

    version: Version
    stages: tuple[Mended, ...]
    refused: tuple[Refused, ...]
    better_left: int = 0
    made_of: int = 0

    @property
    def mends(self) -> tuple[Mend, ...]:
        """Every mend."""
        return tuple(mend for stage in self.stages for mend in stage.mends)

    @property
    def peak(self) -> float:
        """The highest sample that was rebuilt, 0 if none was."""
        return max((stage.peak for stage in self.stages), default=0.0)

    def edit(self, title: str) -> Edit:
        """Return all of it as one step of the history."""
        parts = tuple(part for stage in self.stages for part in stage.parts)
        owners = tuple(number for number, stage in enumerate(self.stages) for _ in stage.mends)
        return Edit(title, tuple(stage.change for stage in self.stages), self.mends, parts, owners=owners)


def run(
    version: Version,
    plan: Plan,
    known: Sequence[Finding],
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> Outcome:
    """Return what a plan makes of a version.

    Parameters
    ----------
    version : Version
        That the findings are in.
    plan : Plan
    known : sequence of Finding
        What is known of the version: each method minds some kinds of damage.
    progress, is_cancelled : callable
        Told the share done, from 0 to 1; asked whether to stop: what is done by then is returned.

    Raises
    ------
    CancelledError
        If ``is_cancelled`` says so before anything is done.
    """
    stages = plan.stages(version)
    wanted = sum(is_mendable(finding.kind) for finding in apart(plan.findings, version.rate))
    counts = [sum(len(batch.places) for batch in batches) for batches in stages]
    told_of = sum(len(place.finding_ids) for batches in stages for batch in batches for place in batch.places)
    total, before = max(1, sum(counts)), 0
    made: list[Mended] = []
    refused: list[Refused] = []
    made_of = 0
    for batches, count in zip(stages, counts, strict=True):

        def told(share: float, before: int = before, count: int = count) -> None:
            progress((before + share * count) / total)

        try:
            mended, left = carried_out(version, batches, known, told, is_cancelled)
        except CancelledError:
            if not made:
                raise
            break
        refused += left
        before += count
        if mended is not None and plan.spares_the_sound and _is_the_sound_itself(version, mended, plan.findings):
            made_of += len(mended.mends)
        elif mended is not None:
            made.append(mended)
            version = mended.version
        if is_cancelled():
            break
    return Outcome(version, tuple(made), tuple(refused), wanted - told_of, made_of)


def _is_the_sound_itself(version: Version, mended: Mended, findings: Sequence[Finding]) -> bool:
    names = {name for mend in mended.mends for name in mend.finding_ids}
    clicks = [finding for finding in findings if finding.kind == "click" and finding.id in names]
    return bool(clicks) and is_the_sound_itself(version, mended, clicks)


def apart(findings: Iterable[Finding], rate: int) -> list[Finding]:
    """Return the findings without those that lie within or close to one of another kind: the longer one's mend sees to
    both."""
    near = round(_NEAR_SECONDS * rate)
    kept: list[Finding] = []
    for finding in sorted(findings, key=lambda finding: (finding.start, -finding.stop)):
        last = kept[-1] if kept else None
        if last is None or last.kind == finding.kind or finding.start >= last.stop + near:
            kept.append(finding)
        elif finding.stop - finding.start > last.stop - last.start:
            kept[-1] = finding
    return kept


def planned(
    findings: Iterable[Finding],
    version: Version,
    preferred: Mapping[str, str] = MappingProxyType({}),
    settled: Mapping[str, Adjustment] = MappingProxyType({}),
) -> list[Batch]:
    """Return the best mend of each finding, those alike as one; findings that no method mends are left out, and those
    that none is expected to better.

    ``preferred`` gives for kinds the title of the mend that did best in a rehearsal or is chosen, ``settled`` settings
    that a person changed, or that are those of the recording.
    """
    batches: dict[tuple[object, ...], Batch] = {}
    moved: dict[tuple[object, ...], tuple[list[Place], int]] = {}
    for finding in findings:
        title, known = preferred.get(finding.kind, ""), settled.get(finding.kind)
        if known is not None and known.is_of_recording and known.title == title:
            remedy: Remedy | None = known.at(finding)
        else:
            remedy = first_remedy(finding, version, title)
        if remedy is not None and (remedy.is_advised or title):
            remedy = remedy.adjusted_as(known)
            place = remedy.place
            is_moved = (place.start, place.stop) != (finding.start, finding.stop)
            same = remedy.method.name, place.start, place.stop, place.channels
            if is_moved and same in moved:
                # Both ends of a quiet part tell of it; it is raised once.
                places, number = moved[same]
                places[number] = place._replace(finding_ids=places[number].finding_ids + place.finding_ids)
                continue
            key = (remedy.method.name, *sorted(remedy.settings.items()))
            places = batches.setdefault(key, Batch(remedy.method, remedy.settings, [])).places
            if is_moved:
                moved[same] = places, len(places)
            places.append(place)
    return list(batches.values())


def carried_out(
    version: Version,
    batches: Sequence[Batch],
    findings: Sequence[Finding],
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> CarriedOut:
    """Return a version with all batches applied to it as it is, as one change.

    Parameters
    ----------
    version : Version
    batches : sequence of Batch
        Of two places whose mends overlap, the later one is left as it is.
    findings : sequence of Finding
        What is known of the version: each method minds some kinds of damage.
    progress, is_cancelled : callable
        Told the share done, from 0 to 1; asked whether to stop: what is done by then is returned.

    Raises
    ------
    CancelledError
        If ``is_cancelled`` says so before anything is done.
    """
    apart = round(_APART_SECONDS * version.rate)
    minded = [(batch, damage_minded(batch.method, findings)) for batch in batches]
    size = _A_PART_FOR_MANY if uses_processes() else _A_PART
    parts = deque((part, damage) for batch, damage in minded for part in _in_parts(batch, apart, size))
    total = sum(len(part.places) for part, _ in parts)
    made: list[Mended] = []
    refused: list[Refused] = []
    before = 0
    while parts:
        part, damage = parts.popleft()
        share = len(part.places) / total

        def told(done: float, before: int = before, share: float = share) -> None:
            progress(before / total + share * done)

        try:
            mended = apply_method(version, part.method, part.settings, part.places, damage, told, is_cancelled)
        except CancelledError:
            if not made:
                raise
            break
        except ParameterError as error:
            if len(part.places) > 1:
                # One of them cannot be mended; the others can.
                parts.extendleft((part._replace(places=[place]), damage) for place in reversed(part.places))
                continue
            refused.append(Refused(part.places[0], error))
        else:
            refused += _left(part, mended)
            if mended.mends:
                made.append(mended)
        before += len(part.places)
    if len(made) <= 1:
        return CarriedOut(next(iter(made), None), tuple(refused))
    mended, left = together_where_apart(version, made)
    refused += [Refused(Place(one.start, one.stop, one.channels, one.finding_ids), too_close()) for one in left]
    return CarriedOut(mended, tuple(refused))


def _left(batch: Batch, mended: Mended) -> list[Refused]:
    """Return the places of a batch that its method chose to leave."""
    if not batch.method.may_leave:
        return []
    starts = [mend.start for mend in mended.mends]
    left = []
    for place in batch.places:
        before = bisect_right(starts, place.start) - 1
        if before < 0 or mended.mends[before].stop <= place.start:
            left.append(Refused(place, better_left()))
    return left


def _in_parts(batch: Batch, apart: int, size: int) -> Iterator[Batch]:
    """Yield a batch in parts of so many places or more, one after another: none ends where the next place is near."""
    places: list[Place] = []
    for place in sorted(batch.places):
        if len(places) >= size and place.start - max(p.stop for p in places[-_A_PART:]) > apart:
            yield batch._replace(places=places)
            places = []
        places.append(place)
    if places:
        yield batch._replace(places=places)


def applied(version: Version, remedy: Remedy, findings: Sequence[Finding], is_cancelled: Callable[[], bool]) -> Mended:
    """Return a version with one remedy applied; ParameterError also where its method leaves the place."""
    damage = damage_minded(remedy.method, findings)
    mended = apply_method(
        version, remedy.method, remedy.settings, [remedy.place], damage, is_cancelled=is_cancelled, workers=1
    )
    if not mended.mends:
        raise better_left()
    return mended


def damage_minded(method: Method, findings: Iterable[Finding]) -> list[Place]:
    """Return the places of the findings that a method must know, so as not to rely on what is damaged."""
    return [Place.of(finding) for finding in findings if finding.kind in method.minds]
