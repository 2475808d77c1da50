"""The level curve: what the level mends add up to, and changing it by its nodes."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QObject, Signal

from umbrick.core.errors import UmbrickError
from umbrick.core.mend.applying import Mended, apply_method
from umbrick.core.mend.levelling.level import curve_of, levelled
from umbrick.core.mend.levelling.level_curve import HIGHEST_DB, LOWEST_DB, LevelCurve
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import method_named
from umbrick.core.timeline.history import Edit, Entry
from umbrick.core.timeline.lifting import Rebuilt, made_again, span_of
from umbrick.core.timeline.positions import place_of_origin
from umbrick.core.timeline.runs import NO_ORIGIN
from umbrick.core.timeline.version import Version
from umbrick.core.units import format_clock, format_db
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.trying import Trial, Trying
from umbrick.ui.hand.handwork import Handwork
from umbrick.work.selection import Selection
from umbrick.work.work import Work

_ALIKE_DB = 1e-6


@dataclass(frozen=True)
class Shown:
    """The level curve of a version as it is, or as it would be: nodes in frames of that version."""

    curve: LevelCurve
    entries: tuple[Entry, ...]
    """The mends it is made of."""


class Levelling(QObject):
    """Shows the level curve and changes it; consecutive changes are one line of the ledger."""

    changed = Signal()

    def __init__(self, bench: Bench, handwork: Handwork, trying: Trying) -> None:
        super().__init__(bench)
        self._bench = bench
        self._handwork = handwork
        self._trying = trying
        self.is_shown = False
        self.chosen: int | None = None
        """The frame of the node that keys act on."""
        self.tried: LevelCurve | None = None
        """The curve as it is being dragged."""
        self._known: tuple[object, object, int, Shown] | None = None
        bench.recording_changed.connect(self._forget)
        bench.edited.connect(self._forget)
        bench.place_changed.connect(self._follow_selection)
        self._selection: Selection | None = None

    def toggle(self) -> None:
        """Show the level curve over the Passage, or not."""
        self.is_shown = not self.is_shown
        self.chosen = None
        self.leave()
        self.changed.emit()
        if self.is_shown:
            self._bench.said.emit("Drag the line in a selection; a double click sets a node.")

    def shown(self, work: Work) -> Shown:
        """Return the curve that acts on the channel the Loupe shows."""
        key = (work.history.latest, work.version, work.channel)
        if self._known is None or self._known[:3] != key:
            self._known = (*key, _curve_of(work))
        return self._known[3]

    def curve(self, work: Work) -> LevelCurve:
        """Return what is to be drawn: the curve as it is being dragged, or as it is."""
        return self.tried if self.tried is not None else self.shown(work).curve

    def nodes(self, work: Work) -> list[tuple[int, float]]:
        """Return the nodes of what is to be drawn: frames, and gains in dB."""
        return _pairs(self.curve(work))

    def value_at(self, work: Work, frame: float) -> float:
        """Return the gain at a frame in dB."""
        return float(self.curve(work).gain_db_at(frame))

    # Changing it: first tried, then made.

    def try_step(self, gain_db: float) -> None:
        """Try a step in the selection, with ramps inside its edges."""
        work = self._bench.work
        if work and work.selection:
            start, stop = work.selection.span
            ramp = max(1, min(round(self._handwork.ramp_ms * work.rate / 1000), (stop - start) // 2))
            bounds = [start, start + ramp, stop - ramp, stop]
            curve = self.shown(work).curve
            inner = [node.frame for node in curve.nodes if bounds[1] < node.frame < bounds[2]]
            outer = [node for node in _pairs(curve) if not start <= node[0] <= stop]
            edges = [(frame, float(curve.gain_db_at(frame))) for frame in (start, stop)]
            raised = [(frame, float(curve.gain_db_at(frame)) + gain_db) for frame in (*bounds[1:3], *inner)]
            self._try(work, LevelCurve.of([*outer, *edges, *raised]))

    def try_node(self, frame: int, to_frame: int, to_db: float, copies: bool = False) -> None:
        """Try a node elsewhere, or a copy of it; it stays between its neighbours."""
        work = self._bench.work
        if work is None:
            return
        nodes = {node.frame: node.gain_db for node in self.shown(work).curve.nodes}
        if frame in nodes and not copies:
            before = max((f for f in nodes if f < frame), default=-1)
            after = min((f for f in nodes if f > frame), default=work.frames + 1)
            to_frame = min(max(to_frame, before + 1), after - 1)
            del nodes[frame]
        nodes[min(max(0, to_frame), work.frames)] = to_db
        self.chosen = min(max(0, to_frame), work.frames)
        self._try(work, self._closed(work, nodes.items()))

    def set_node(self, frame: int) -> None:
        """Set a node on the line, without changing the level."""
        if work := self._bench.work:
            curve = self.shown(work).curve
            self.chosen = frame
            self._try(work, LevelCurve.of([*_pairs(curve), (frame, float(curve.gain_db_at(frame)))]))

    def delete_node(self) -> None:
        """Take the chosen node away."""
        work = self._bench.work
        if work is None or self.chosen is None:
            return
        nodes = [node for node in _pairs(self.shown(work).curve) if node[0] != self.chosen]
        self._try(work, self._closed(work, nodes))
        self.make()
        self.chosen = None

    def type_node(self, gain_db: float) -> None:
        """Give the chosen node a typed level."""
        if self.chosen is not None:
            self.try_node(self.chosen, self.chosen, gain_db)
            self.make()

    @property
    def holds(self) -> bool:
        """Whether another curve is being tried."""
        return self.tried is not None

    def leave(self) -> None:
        """Leave the curve as it was."""
        if self.tried is not None:
            self.tried = None
            self._trying.end()
            self.changed.emit()

    def make(self) -> None:
        """Make the curve as it was tried."""
        work, tried = self._bench.work, self.tried
        if work is None or tried is None:
            return
        shown = self.shown(work)
        span = _difference(shown.curve, tried)
        self.tried = None
        if span is None:
            self._trying.end()
            self.changed.emit()
            return
        latest = self._latest(work, shown)
        if latest is not None:
            self._make_again(work, latest, tried, span)
        else:
            change = _added(shown.curve, tried, *span)
            place = Place(*span, work.selected_channels)
            self._handwork.apply("level", {"curve": change.text}, place)
        self.changed.emit()

    def _make_again(self, work: Work, entry: Entry, tried: LevelCurve, span: tuple[int, int]) -> None:
        """Change the level mend made last, instead of making another on top of it."""
        own = span_of(work.version, entry)
        assert own is not None
        start, stop = min(own[0], span[0]), max(own[1], span[1])
        place = Place(start, stop, entry.mend.channels)
        rest = _curve_of(work, leaving_out=entry).curve
        settings = {"curve": _added(rest, tried, start, stop).text}

        def edit_of() -> Edit:
            def rebuild(version: Version) -> Rebuilt:
                mended = apply_method(version, method_named("level"), settings, [place])
                return Rebuilt(mended.change, mended.mends[0])

            return made_again(work.history, entry.mend.id, rebuild)

        self._handwork.do_edit(work, "level", edit_of)

    def _latest(self, work: Work, shown: Shown) -> Entry | None:
        """Return the level mend that was made last of all, if nothing has been done since: it can be changed."""
        latest = work.history.latest
        if latest is None or len(latest.made) != 1 or latest.made[0].method != "level":
            return None
        entry = next((e for e in shown.entries if e.mend.id == latest.made[0].id), None)
        return entry if entry is not None and entry.mend.channels == work.selected_channels else None

    def _try(self, work: Work, curve: LevelCurve) -> None:
        self.tried = curve
        shown = self.shown(work).curve
        span = _difference(shown, curve)
        if span is None:
            self._trying.end()
        else:
            change = levelled(work.version, Place(*span, work.selected_channels), _added(shown, curve, *span))
            self._trying.show(Trial(work.version, change.apply(work.version)))
        self.changed.emit()

    def _closed(self, work: Work, nodes: Iterable[tuple[int, float]]) -> LevelCurve:
        """Return a curve that comes back to 0 dB before its first and after its last node, never at once."""
        ramp = max(1, round(self._handwork.ramp_ms * work.rate / 1000))
        held = dict(nodes)
        if held:
            first, last = min(held), max(held)
            if held[first] and first > 0:
                held[max(0, first - ramp)] = 0.0
            if held[last] and last < work.frames:
                held[min(work.frames, last + ramp)] = 0.0
        return LevelCurve.of(held.items())

    def in_words(self, work: Work) -> str:
        """Return the chosen node's level and place."""
        if self.chosen is None:
            return ""
        gain_db = float(self.curve(work).gain_db_at(self.chosen))
        return f"{format_db(gain_db, 'dB')} at {format_clock(self.chosen, work.rate)}"

    def _follow_selection(self) -> None:
        """A new selection is what keys and typed levels mean from now on, not the node that was chosen."""
        selection = self._bench.work.selection if self._bench.work else None
        if selection != self._selection:
            self._selection, self.chosen = selection, None

    def _forget(self) -> None:
        self._known = None
        if self.tried is not None:
            self.tried = None
            self._trying.end()
        self.changed.emit()


def _curve_of(work: Work, leaving_out: Entry | None = None) -> Shown:
    """Return the sum of the level mends that act on the Loupe's channel."""
    entries, curves = [], []
    for entry in work.history.ledger:
        mend = entry.mend
        if not entry.is_on or mend.method != "level" or work.channel not in mend.channels:
            continue
        if leaving_out is not None and mend.id == leaving_out.mend.id:
            continue
        try:
            own = curve_of(method_named("level").checked(mend.parameters), mend.stop - mend.start, work.rate)
        except UmbrickError:
            continue  # a casebook made by another version may hold what this one does not know
        entries.append(entry)
        curves.append([(_now(work, entry, node.frame), node.gain_db) for node in own.nodes])
    return Shown(_sum(curves), tuple(entries))


def _now(work: Work, entry: Entry, offset: int) -> int:
    """Return where a frame of a level mend's place is now, whatever was done within it since."""
    removed = entry.change.removed.run(entry.first)
    ends = np.cumsum(removed.lengths)
    piece = min(int(np.searchsorted(ends, offset, side="right")), len(ends) - 1)
    origin = int(removed.origins[piece])
    if origin == NO_ORIGIN:
        span = span_of(work.version, entry)
        return min((span[0] if span else entry.mend.start) + offset, work.frames)
    into = offset - int(ends[piece] - removed.lengths[piece])
    return place_of_origin(work.version, origin + into)


def _sum(curves: list[list[tuple[int, float]]]) -> LevelCurve:
    frames = sorted({frame for curve in curves for frame, _ in curve})
    if not frames:
        return LevelCurve(())
    total = np.zeros(len(frames))
    for curve in curves:
        at, gains_db = zip(*curve, strict=True)
        total += np.interp(frames, at, gains_db, left=0.0, right=0.0)
    return LevelCurve.of(zip(frames, total.tolist(), strict=True))


def _difference(one: LevelCurve, other: LevelCurve) -> tuple[int, int] | None:
    """Return the span in which two curves differ, or None."""
    frames = np.array(sorted({node.frame for curve in (one, other) for node in curve.nodes}))
    if not len(frames):
        return None
    apart = np.abs(one.gain_db_at(frames) - other.gain_db_at(frames)) > _ALIKE_DB
    if not apart.any():
        return None
    first, last = np.flatnonzero(apart)[[0, -1]].tolist()
    return int(frames[max(0, first - 1)]), int(frames[min(len(frames) - 1, last + 1)])


def _added(before: LevelCurve, after: LevelCurve, start: int, stop: int) -> LevelCurve:
    """Return what must be added to one curve to have another within a span, in frames from its start."""
    inner = {node.frame for curve in (before, after) for node in curve.nodes if start < node.frame < stop}
    frames = np.array(sorted(inner | {start, stop}))
    gains_db = np.clip(after.gain_db_at(frames) - before.gain_db_at(frames), LOWEST_DB, HIGHEST_DB)
    return LevelCurve.of(zip((frames - start).tolist(), np.round(gains_db, 6).tolist(), strict=True))


def new_peak(version: Version, place: Place, gain_db: float, ramp_ms: float) -> float:
    """Return the highest sample that a place would have; may read the file, so not for the window."""
    mended: Mended = apply_method(version, method_named("level"), {"gain_db": gain_db, "ramp_ms": ramp_ms}, [place])
    return mended.peak


def _pairs(curve: LevelCurve) -> list[tuple[int, float]]:
    return [(node.frame, node.gain_db) for node in curve.nodes]
