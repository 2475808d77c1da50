"""Applying a method to places of a version: what the window and the command line both do."""

from __future__ import annotations

import itertools
from bisect import bisect_left
from collections.abc import Callable, Sequence
from functools import partial
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.course.treatment import Treatment
from umbrick.core.errors import CancelledError, ParameterError
from umbrick.core.measure.seam import seam_scores
from umbrick.core.mend.method import Excerpt, Method, Rebuild, Rework, Reworked, Reworking, Stretch
from umbrick.core.mend.parameters import Parameters
from umbrick.core.mend.place import Place, mask_of, stretches
from umbrick.core.mend.side_by_side import worked_out
from umbrick.core.model.bounds import Integers, spans_in
from umbrick.core.processors import processors
from umbrick.core.timeline.change import Change, replace_many
from umbrick.core.timeline.history import Edit, Mend
from umbrick.core.timeline.patch import Patch
from umbrick.core.timeline.runs import Piece, Runs
from umbrick.core.timeline.version import Version

_LONGEST_SECONDS = 2.0
_PEAK_FRAMES = 1 << 18


class Mended(NamedTuple):
    """A version with mends applied, as a change of the one before, and the highest sample they rebuilt (0 if none).

    Places that overlap are one mend, and those that a method chose to leave are none; ``parts`` gives for each mend its
    own spans of the change, as a half-open range.
    """

    version: Version
    change: Change
    mends: tuple[Mend, ...]
    parts: tuple[tuple[int, int], ...]
    peak: float

    def edit(self, title: str) -> Edit:
        """Return the edit for the history."""
        return Edit(title, (self.change,), self.mends, self.parts)


def together(version: Version, mended: Sequence[Mended]) -> Mended:
    """Return several things that were made of one version, at places apart, as one.

    Raises
    ------
    ValueError
        If their spans overlap.
    """
    return _as_one(version, _in_order(mended))


def together_where_apart(version: Version, mended: Sequence[Mended]) -> tuple[Mended, list[Mend]]:
    """Return several things that were made of one version as one, and the mends left out of it: those that begin before
    the end of one that comes before."""
    kept, left, reached = [], [], 0
    for made in _in_order(mended):
        if made.starts and made.starts[0] < reached:
            left.append(made.mend)
        else:
            kept.append(made)
            reached = made.stops[-1] if made.stops else reached
    return _as_one(version, kept), left


class _Made(NamedTuple):
    """A mend, what it is a part of, and its own spans of that one's change: which they are, and from where to where."""

    mend: Mend
    whole: Mended
    rows: range
    starts: list[int]
    stops: list[int]


def _in_order(mended: Sequence[Mended]) -> list[_Made]:
    """Return the mends of several things by where the first change of each begins."""
    made = []
    for whole in mended:
        starts, stops = whole.change.starts.tolist(), whole.change.stops.tolist()
        for mend, (low, high) in zip(whole.mends, whole.parts, strict=True):
            made.append(_Made(mend, whole, range(low, high), starts[low:high], stops[low:high]))
    return sorted(made, key=lambda one: one.starts[0] if one.starts else one.mend.start)


def _as_one(version: Version, made: Sequence[_Made]) -> Mended:
    inserted = [list(one.whole.change.inserted.run(row).pieces()) for one in made for row in one.rows]
    starts = [at for one in made for at in one.starts]
    stops = [at for one in made for at in one.stops]
    change = Change.of(version, starts, stops, Runs.of(inserted))
    ends = np.cumsum([0, *(len(one.rows) for one in made)]).tolist()
    return Mended(
        change.apply(version),
        change,
        tuple(one.mend for one in made),
        tuple(itertools.pairwise(ends)),
        max((one.whole.peak for one in made), default=0.0),
    )


class _Asked(NamedTuple):
    """A stretch to rebuild some of: what a method needs, where it begins, and what it may change."""

    excerpt: Excerpt
    start: int
    touchable: npt.NDArray[np.bool_]


class _Rebuilt(NamedTuple):
    """Spans of frames that were rebuilt, one after another: their samples, which of these are new, and seam scores."""

    starts: Integers
    stops: Integers
    samples: npt.NDArray[np.float32]
    changed: npt.NDArray[np.bool_]
    scores: list[float]


def apply_method(
    version: Version,
    method: Method,
    settings: Parameters,
    places: Sequence[Place],
    damage: Sequence[Place] = (),
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
    workers: int | None = None,
) -> Mended:
    """Return a version with a method applied at places.

    Parameters
    ----------
    version : Version
        Not changed.
    method : Method
    settings : mapping
        Its parameters; those missing take their defaults.
    places : sequence of Place
        Where to mend. Places near each other are computed together.
    damage : sequence of Place
        Other places known to be damaged, which the method must not rely on; in order of time.
    progress, is_cancelled : callable
        Told the share done, from 0 to 1; asked whether to stop.
    workers : int, optional
        Threads, by default one for each core. The result does not depend on it.

    Raises
    ------
    ParameterError
        If a setting is not one of the method's, or out of range, or does not go together with a place.
    CancelledError
        If ``is_cancelled`` says so. Nothing has changed then.
    FileError
        If the recording cannot be read.
    """
    parameters = method.checked(settings)
    does = method.does
    if isinstance(does, Treatment):
        raise ParameterError(f"{method.title} is laid over the recording; it is no mend of a place.")
    if isinstance(does, Reworking):
        return _reworked(version, method, does.rework, parameters, places, progress, is_cancelled)
    rebuild = does.rebuild
    context = round(does.context(parameters) * version.rate)
    groups = list(stretches(list(places), context, round(_LONGEST_SECONDS * version.rate)))
    known = _Damage([*damage, *places])
    reach = round(does.reach(parameters) * version.rate)
    edges = {place.start for place in places}, {place.stop for place in places}

    def ask(number: int) -> _Asked:
        group = groups[number]
        return _asked(version, group, _widened(group, reach, *edges), known, context)

    work = partial(_rebuilt, rebuild, parameters)
    done = worked_out(ask, work, len(groups), workers or processors(), progress, is_cancelled)
    patches = [patch for patch in done if len(patch.starts)]
    united = _united(places, 2 * reach)
    if not patches:
        mends = tuple(_mend(method, parameters, place, []) for place in united if not method.may_leave)
        return Mended(version, Change.of(version, [], [], Runs.of([])), mends, ((0, 0),) * len(mends), 0.0)
    samples = np.concatenate([_exactly(version, patch) for patch in patches])
    starts, stops = (np.concatenate([getattr(p, name) for p in patches]) for name in ("starts", "stops"))
    change = replace_many(version, Patch(samples, version.rate, does.nature), starts, stops)
    first = np.searchsorted(starts, [place.start - reach for place in united])
    last = np.searchsorted(starts, [place.stop + reach for place in united])
    made = [
        (place, (low, high))
        for place, low, high in zip(united, first.tolist(), last.tolist(), strict=True)
        if low < high or not method.may_leave
    ]
    parts = tuple(part for _, part in made)
    scores = [score for patch in patches for score in patch.scores]
    mends = tuple(
        _mend(method, parameters, _covering(place, starts[low:high], stops[low:high]), scores[low:high])
        for place, (low, high) in made
    )
    return Mended(change.apply(version), change, mends, parts, float(np.abs(samples).max()))


def _reworked(
    version: Version,
    method: Method,
    rework: Rework,
    parameters: Parameters,
    places: Sequence[Place],
    progress: Callable[[float], None],
    is_cancelled: Callable[[], bool],
) -> Mended:
    """Return a version with a method applied to one place after another, all of it as one change."""
    reworked: list[Reworked] = []
    united = _united(places)
    for number, place in enumerate(united):
        if is_cancelled():
            raise CancelledError
        reworked.append(rework(version, place, parameters, is_cancelled))
        progress((number + 1) / len(united))
    return as_mended(version, method.name, reworked)


def as_mended(version: Version, method: str, reworked: Sequence[Reworked]) -> Mended:
    """Return what a method made of places, in order of time, as one change with a mend for each.

    Raises
    ------
    ParameterError
        If what was made of two places overlaps.
    """
    made: list[Stretch] = []
    mends: list[Mend] = []
    parts: list[tuple[int, int]] = []
    for done in reworked:
        if made and done.stretches and done.stretches[0].start < made[-1].stop:
            raise too_close()
        parts.append((len(made), len(made) + len(done.stretches)))
        made += done.stretches
        shift = sum(sum(piece.length for piece in s.pieces) - (s.stop - s.start) for s in done.stretches)
        mends.append(
            Mend(
                method, done.place.start, done.place.stop, done.place.channels, dict(done.parameters),
                None if done.seam_score is None else round(done.seam_score, 3), shift, done.place.finding_ids,
            )
        )  # fmt: skip
    change = Change.of(version, [s.start for s in made], [s.stop for s in made], Runs.of([s.pieces for s in made]))
    peak = max((_peak(piece) for s in made for piece in s.pieces), default=0.0)
    return Mended(change.apply(version), change, tuple(mends), tuple(parts), peak)


def better_left() -> ParameterError:
    """Return what there is to say where a method finds nothing that it would better."""
    return ParameterError(
        "Better left as it is: a rebuild would likely be further from the truth than what is there.",
        "Another candidate, or redrawing by hand, still can.",
    )


def too_close() -> ParameterError:
    """Return what there is to say where what was made of two places overlaps."""
    return ParameterError("Two of the places are too close together for this method.", "Do one, then the other.")


def _peak(piece: Piece) -> float:
    """Return the highest sample of a patch's piece; what the recording has already is no news."""
    if not isinstance(piece.source, Patch):
        return 0.0
    stop = piece.start + piece.length
    return max(
        float(np.abs(piece.source.read(at, min(at + _PEAK_FRAMES, stop))).max())
        for at in range(piece.start, stop, _PEAK_FRAMES)
    )


def _mend(method: Method, parameters: dict[str, Any], place: Place, scores: list[float]) -> Mend:
    # Mends that are made together share their settings: there may be hundreds of thousands.
    score = round(min(scores), 3) if scores else None
    return Mend(method.name, place.start, place.stop, place.channels, parameters, score, finding_ids=place.finding_ids)


def _covering(place: Place, starts: Integers, stops: Integers) -> Place:
    """Return a place that also covers what was changed just outside of it."""
    if not len(starts):
        return place
    return place._replace(start=min(place.start, int(starts[0])), stop=max(place.stop, int(stops[-1])))


def _widened(group: list[Place], reach: int, starts: set[int], stops: set[int]) -> list[Place]:
    """Return places with what lies within reach of them, but not where a place was just cut to be done in parts."""
    return [
        place._replace(
            start=max(0, place.start - reach * (place.start in starts)), stop=place.stop + reach * (place.stop in stops)
        )
        for place in group
    ]


def _united(places: Sequence[Place], gap: int = 0) -> list[Place]:
    """Return the places in order of time, those that are no more than a gap apart (on whatever channels) as one.

    What is rebuilt on several channels at once is one run of frames, which can only be lifted off as a whole.
    """
    united: list[Place] = []
    for place in sorted(places):
        if united and place.start <= united[-1].stop + gap:
            last = united[-1]
            united[-1] = Place(
                last.start,
                max(last.stop, place.stop),
                tuple(sorted({*last.channels, *place.channels})),
                (*last.finding_ids, *place.finding_ids),
            )
        else:
            united.append(place)
    return united


class _Damage:
    """Places by time, so that those within a span are found without looking at all of them."""

    def __init__(self, places: list[Place]) -> None:
        self._places = sorted(set(places))
        self._starts = [place.start for place in self._places]
        self._longest = max((place.stop - place.start for place in self._places), default=0)

    def within(self, start: int, stop: int) -> list[Place]:
        first = bisect_left(self._starts, start - self._longest)
        return self._places[first : bisect_left(self._starts, stop)]


def _asked(version: Version, group: list[Place], touched: list[Place], known: _Damage, context: int) -> _Asked:
    start = max(0, min(place.start for place in group) - context)
    stop = min(version.frames, max(place.stop for place in group) + context)
    excerpt = Excerpt(
        version.read(start, stop),
        version.rate,
        damage=mask_of(known.within(start, stop), start, stop, version.channels),
        target=mask_of(group, start, stop, version.channels),
    )
    return _Asked(excerpt, start, mask_of(touched, start, stop, version.channels))


def _rebuilt(rebuild: Rebuild, parameters: Parameters, asked: _Asked, is_cancelled: Callable[[], bool]) -> _Rebuilt:
    excerpt = asked.excerpt
    rebuilt = rebuild(excerpt, parameters, is_cancelled)
    changed = (rebuilt != excerpt.samples) & asked.touchable
    starts, stops = spans_in(changed.any(axis=1))
    made = np.where(changed, rebuilt, excerpt.samples.astype(np.float64))
    inside = np.concatenate([np.arange(*span) for span in zip(starts, stops, strict=True)] or [np.zeros(0, np.int64)])
    return _Rebuilt(
        starts + asked.start,
        stops + asked.start,
        rebuilt[inside].astype(np.float32),
        changed[inside],
        seam_scores(made, changed, starts, stops, excerpt.rate),
    )


def _exactly(version: Version, rebuilt: _Rebuilt) -> npt.NDArray[Any]:
    """Return the samples of rebuilt spans, with those that are not new as the version has them."""
    if rebuilt.changed.all():
        return rebuilt.samples.astype(np.float64)
    spans = zip(rebuilt.starts.tolist(), rebuilt.stops.tolist(), strict=True)
    before = np.concatenate([version.read_exact(start, stop) for start, stop in spans])
    return np.where(rebuilt.changed, rebuilt.samples, before)
