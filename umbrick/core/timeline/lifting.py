"""Taking single mends back: switching them off and on, lifting them off, doing them again, restoring a span.

Each function returns an edit for the history, so that all of it can be undone. A mend can be taken back on its own as
long as no later one stands on it, that is: changed samples it made, or the two frames that it brought together.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import NamedTuple

import numpy as np

from umbrick.core.errors import UmbrickError
from umbrick.core.timeline import change as changes
from umbrick.core.timeline.change import Change
from umbrick.core.timeline.history import RESTORE, Edit, Entry, History, Mend
from umbrick.core.timeline.positions import place_of_origin
from umbrick.core.timeline.runs import NO_ORIGIN, Integers, Runs
from umbrick.core.timeline.version import Version


class StandsOnError(UmbrickError):
    """Mends cannot be taken back alone: ``blockers`` are the later ones that stand on them, oldest first."""

    def __init__(self, blockers: Sequence[Entry]) -> None:
        if not blockers:
            super().__init__("The sound there has changed since.", "Undo to go back.")
        elif len(blockers) == 1:
            super().__init__("A later mend stands on it.", "Lift that off first, or both together.")
        else:
            super().__init__(f"{len(blockers)} later mends stand on it.", "Lift those off first, or all together.")
        self.blockers = tuple(blockers)


class Rebuilt(NamedTuple):
    """What a method made again: the change, one mend for it (its spans are all of the change's)."""

    change: Change
    mend: Mend


def span_of(version: Version, entry: Entry) -> tuple[int, int] | None:
    """Return the span that a mend was asked for, where it is in a version now.

    None if what it put there (or, while it is switched off, what it replaced) no longer stands there as it was.
    """
    sides = entry.change.inserted, entry.change.removed
    starts = _located(version, entry, *(sides if entry.is_on else sides[::-1]))
    if starts is None:
        return None
    mend = entry.mend
    moved = int(starts[0] - entry.change.starts[entry.first]) if len(starts) else 0
    length = mend.stop - mend.start + (mend.time_shift if entry.is_on else 0)
    start = min(max(0, mend.start + moved), version.frames)
    return start, min(version.frames, start + max(0, length))


def switch_off(history: History, mend_ids: Iterable[str]) -> Edit:
    """Return the edit after which some mends no longer act, but stay in the ledger.

    Raises
    ------
    StandsOnError
        If later mends that are not among them stand on one of them.
    """
    entries = _on(history, mend_ids)
    return Edit(_title("switch off", entries), _taken_back(history, entries), switched_off=_ids(entries))


def switch_on(history: History, mend_ids: Iterable[str]) -> Edit:
    """Return the edit after which mends that were switched off act again.

    Raises
    ------
    StandsOnError
        If something else has been done at their place meanwhile.
    """
    entries = [entry for entry in map(history.entry, mend_ids) if not entry.is_on]
    version = history.current
    rows: list[tuple[int, int, Entry, int]] = []
    for number, entry in enumerate(entries):
        starts = _located(version, entry, entry.change.removed, entry.change.inserted)
        if starts is None:
            raise StandsOnError(_blockers(history, [entry], entry.change.removed))
        rows += [(start, number, entry, entry.first + row) for row, start in enumerate(starts.tolist())]
    rows.sort(key=lambda row: row[:2])
    change = _change_at(version, [(start, entry.change.removed, entry.change.inserted, row)
                                  for start, _, entry, row in rows])  # fmt: skip
    parts = []
    for number in range(len(entries)):
        own = [at for at, row in enumerate(rows) if row[1] == number]
        parts.append((own[0], own[-1] + 1) if own else (0, 0))
    return Edit(_title("switch on", entries), (change,), parts=tuple(parts), switched_on=_ids(entries))


def lift_off(history: History, mend_ids: Iterable[str]) -> Edit:
    """Return the edit after which some mends are gone, as if they had never been made.

    Raises
    ------
    StandsOnError
        If later mends that are not among them stand on one of them.
    """
    entries = [history.entry(mend_id) for mend_id in mend_ids]
    acting = [entry for entry in entries if entry.is_on]
    return Edit(_title("lift off", entries), _taken_back(history, acting) if acting else (), lifted=_ids(entries))


def without(history: History, mend_ids: Iterable[str]) -> Version:
    """Return the current version as it would be without some mends.

    Raises
    ------
    StandsOnError
        If later mends that are not among them stand on one of them.
    """
    entries = _on(history, mend_ids)
    return changes.applied(history.current, _taken_back(history, entries) if entries else ())


def made_again(history: History, mend_id: str, rebuild: Callable[[Version], Rebuilt]) -> Edit:
    """Return the edit that does a mend again, with other settings, on the recording as it is without it.

    Raises
    ------
    StandsOnError
        If later mends stand on it.
    """
    entry = history.entry(mend_id)
    back = _taken_back(history, [entry]) if entry.is_on else ()
    rebuilt = rebuild(changes.applied(history.current, back))
    return Edit(
        f"change a {entry.mend.method} mend",
        (*back, rebuilt.change),
        (rebuilt.mend,),
        ((0, len(rebuilt.change)),),
        lifted=(mend_id,),
    )


def restore_here(history: History, start: int, stop: int) -> Edit | None:
    """Return the edit that brings back the original in a span, as an entry of its own, or None if it is there."""
    version = history.current
    change = changes.restore(version, start, stop, history.original)
    if change.removed.is_same(change.inserted.joined()):
        return None
    reopened = tuple(name for entry in _covered(history, change.removed) for name in entry.mend.finding_ids)
    mend = Mend(
        RESTORE, start, stop, tuple(range(version.channels)), {}, time_shift=change.time_shift, reopened_ids=reopened
    )
    return Edit("restore the original", (change,), (mend,), ((0, 1),))


def _on(history: History, mend_ids: Iterable[str]) -> list[Entry]:
    return [entry for entry in map(history.entry, mend_ids) if entry.is_on]


def _ids(entries: Iterable[Entry]) -> tuple[str, ...]:
    return tuple(entry.mend.id for entry in entries)


def _title(what: str, entries: Sequence[Entry]) -> str:
    return f"{what} {len(entries)} mends" if len(entries) > 1 else f"{what} a {entries[0].mend.method} mend"


def _taken_back(history: History, entries: Sequence[Entry]) -> tuple[Change, ...]:
    """Return the changes that take mends back, newest first where they stand on each other."""
    version, waiting, made = history.current, sorted(entries, key=lambda entry: -entry.number), []
    while waiting:
        rows: list[tuple[int, Runs, Runs, int]] = []
        left: list[Entry] = []
        located = ((e, _located(version, e, e.change.inserted, e.change.removed)) for e in waiting)
        for entry, starts in _apart(list(located), left):
            rows += [
                (start, entry.change.inserted, entry.change.removed, entry.first + row)
                for row, start in enumerate(starts.tolist())
            ]
        if len(left) == len(waiting):
            raise StandsOnError(_blockers(history, left, None, without=entries))
        made.append(_change_at(version, sorted(rows, key=lambda row: row[0])))
        version, waiting = made[-1].apply(version), left
    return tuple(made)


def _apart(located: Sequence[tuple[Entry, Integers | None]], left: list[Entry]) -> list[tuple[Entry, Integers]]:
    """Return the entries that were located at places which do not overlap; the others are added to ``left``.

    Two may be found at one place where each fits for itself, after what stood between them has gone.
    """
    found = [(entry, starts) for entry, starts in located if starts is not None]
    left += [entry for entry, starts in located if starts is None]
    begins = [starts for _, starts in found]
    ends = [starts + entry.change.inserted.frames[entry.first : entry.last] for entry, starts in found]
    if not found or not _overlap(np.concatenate(begins), np.concatenate(ends)):
        return found
    taken: list[int] = []
    for number, (entry, _) in enumerate(found):
        tried = [*taken, number]
        if _overlap(np.concatenate([begins[n] for n in tried]), np.concatenate([ends[n] for n in tried])):
            left.append(entry)
        else:
            taken = tried
    return [found[number] for number in taken]


def _overlap(begins: Integers, ends: Integers) -> bool:
    order = np.lexsort([ends, begins])
    return bool((begins[order][1:] < ends[order][:-1]).any())


def _change_at(version: Version, rows: list[tuple[int, Runs, Runs, int]]) -> Change:
    """Return the change that puts, at each start, one run where another of them stands."""
    starts = np.array([row[0] for row in rows], np.int64)
    stops = starts + [int(out.run(number).lengths.sum()) for _, out, _, number in rows]
    inserted = Runs.of([list(into.run(number).pieces()) for _, _, into, number in rows])
    return Change.of(version, starts, stops, inserted)


def _located(version: Version, entry: Entry, side: Runs, out: Runs) -> Integers | None:
    """Return where each of an entry's runs on one side stands in a version, or None if one of them does not."""
    starts = []
    for row in range(entry.first, entry.last):
        run = side.run(row)
        found = version.places_of(run) if len(run.index) else _cuts(version, entry.change, row, out)
        if not found:
            return None
        starts.append(found[0])
    return np.array(starts, np.int64)


def _cuts(version: Version, change: Change, row: int, out: Runs) -> list[int]:
    """Return where in a version an empty run stands: between the two frames it had beside it.

    Where one of those is gone, the place is after the nearest frame that comes before the missing ones (``out``) in
    the original, unless something was put just there, or something goes on across it.
    """
    left, right = change.left.run(row), change.right.run(row)
    before = [place + 1 for place in version.places_of(left)] if len(left.index) else [0]
    after = version.places_of(right) if len(right.index) else [version.frames]
    if both := sorted(set(before) & set(after)):
        return both
    missing = out.run(row)
    if not len(missing.index) or missing.origins[0] == NO_ORIGIN:
        return [] if before and after else before or after
    place = place_of_origin(version, int(missing.origins[0]))
    beside = [version.cut([at], [at + 1]) if 0 <= at < version.frames else None for at in (place - 1, place)]
    stands_for_neighbour = [
        run is not None and len(own.index) and run.origins[0] == own.origins[0]
        for run, own in zip(beside, (left, right), strict=True)
    ]
    if not (before or after or any(stands_for_neighbour)):
        return []
    # Sound that stands for nothing in the original, just here, could belong on either side of what comes back.
    for run, own_places in zip(beside, (before, after), strict=True):
        if run is not None and run.origins[0] == NO_ORIGIN and place not in own_places:
            return []
    crossed = 0 < place < version.frames and len(version.cut([place - 1], [place + 1]).joined().index) == 1
    one, other = beside
    if one is not None and other is not None and one.index[0] == other.index[0]:
        crossed = crossed or one.starts[0] + 1 == other.starts[0]
    return [] if crossed else [place]


def _covered(history: History, removed: Runs) -> list[Entry]:
    """Return the acting mends all of whose samples are among removed runs."""
    spans: dict[int, list[tuple[int, int]]] = {}
    for piece in removed.pieces():
        spans.setdefault(id(piece.source), []).append((piece.start, piece.start + piece.length))
    rows_covered: dict[int, Integers] = {}
    covered = []
    for entry in history.ledger:
        if not entry.is_on or entry.first == entry.last:
            continue
        counted = rows_covered.get(id(entry.change))
        if counted is None:
            inserted = entry.change.inserted
            inside = np.zeros(len(inserted.index), np.bool_)
            for number, source in enumerate(inserted.sources):
                for begin, end in spans.get(id(source), ()):
                    inside |= (
                        (inserted.index == number)
                        & (inserted.starts >= begin)
                        & (inserted.starts + inserted.lengths <= end)
                    )
            runs = np.bincount(inserted.run_of_piece[inside], minlength=len(inserted)) == inserted.counts
            counted = rows_covered[id(entry.change)] = np.concatenate([[0], np.cumsum(runs & (inserted.counts > 0))])
        if counted[entry.last] - counted[entry.first] == entry.last - entry.first:
            covered.append(entry)
    return covered


def _blockers(
    history: History, entries: Sequence[Entry], side: Runs | None, without: Sequence[Entry] = ()
) -> list[Entry]:
    """Return the acting mends, not among those given, that stand on the given ones or on one another.

    ``side`` is what the given ones need to find in place, by default what they put there.
    """
    found: dict[str, Entry] = {}
    excluded = {*_ids(entries), *_ids(without)}
    ground = [(entry, side or entry.change.inserted) for entry in [*entries, *without]]
    while ground:
        below, needed = ground.pop()
        for entry in history.ledger:
            if not entry.is_on or entry.mend.id in excluded or entry.mend.id in found:
                continue
            if _touches(entry, below, needed):
                found[entry.mend.id] = entry
                ground.append((entry, entry.change.inserted))
    return sorted(found.values(), key=lambda entry: entry.number)


def _touches(upper: Entry, lower: Entry, needed: Runs) -> bool:
    """Return whether a mend removed frames that another needs, or put something between them."""
    for row in range(lower.first, lower.last):
        run = needed.run(row)
        left, right = lower.change.left.run(row), lower.change.right.run(row)
        for own in range(upper.first, upper.last):
            removed = upper.change.removed.run(own)
            if len(removed.index):
                if _share(removed, run) or (not len(run.index) and (_share(removed, left) or _share(removed, right))):
                    return True
                continue
            before, after = upper.change.left.run(own), upper.change.right.run(own)
            if len(run.index):
                if _share(before, run) and _share(after, run):
                    return True
            elif _share(before, left) or _share(after, right):
                return True
    return False


def _share(one: Runs, other: Runs) -> bool:
    """Return whether two runs have a frame in common."""
    return any(
        a.source is b.source and a.start < b.start + b.length and b.start < a.start + a.length
        for a in one.pieces()
        for b in other.pieces()
    )
