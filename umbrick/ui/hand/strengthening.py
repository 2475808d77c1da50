"""How much of a step is done along time: a line over the Passage, changed by its nodes."""

from __future__ import annotations

from collections.abc import Iterable

from PySide6.QtCore import QObject, Signal

from umbrick.core.course.step import STRENGTH
from umbrick.core.course.strength import Nodes, shares_at, strength_of, strength_text
from umbrick.core.timeline.positions import map_positions
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.coursing import Coursing
from umbrick.work.work import Work

_RAMP_SECONDS = 0.1


class Strengthening(QObject):
    """Shows the line of the chosen step and changes it; while it is dragged, it is heard."""

    changed = Signal()

    def __init__(self, bench: Bench, coursing: Coursing) -> None:
        super().__init__(bench)
        self._bench = bench
        self._coursing = coursing
        self._wanted = False
        self._before: Nodes | None = None
        """The line as it was when a drag began, in frames of the version."""
        self.chosen: int | None = None
        """The frame of the node that keys act on."""
        bench.recording_changed.connect(self._forget)
        bench.place_changed.connect(self._forget)
        coursing.changed.connect(self.changed)

    @property
    def is_shown(self) -> bool:
        """Whether the line is drawn: it is while a step is being worked on."""
        return self._wanted and self._coursing.is_open and self._coursing.step is not None

    def toggle(self) -> None:
        """Show the line of the chosen step, or not."""
        self._wanted = not self.is_shown
        self.chosen = None
        if self._wanted:
            if not self._coursing.is_open:
                self._coursing.set_open(True)
            self._bench.said.emit("Drag the line in a selection, or a node of it; a double click sets a node.")
        self.changed.emit()

    def nodes(self, work: Work) -> Nodes:
        """Return the nodes of the line in frames of the version, with what is being tried."""
        step = self._coursing.step
        return work.ground.strength(step) if step is not None else ()

    def value_at(self, work: Work, frame: float) -> float:
        """Return how much is done at a frame of the version, from 0 to 1."""
        return float(shares_at(self.nodes(work), frame))

    # Changing it: first tried, then made.

    def try_step(self, by: float) -> None:
        """Try a step in the selection, with ramps inside its edges."""
        work = self._bench.work
        if work is None or work.selection is None:
            return
        start, stop = work.selection.span
        ramp = max(1, min(round(_RAMP_SECONDS * work.rate), (stop - start) // 2))
        nodes = self._start(work)
        inner = [frame for frame, _ in nodes if start + ramp < frame < stop - ramp]
        outer = [node for node in nodes if not start <= node[0] <= stop]
        edges = [(frame, float(shares_at(nodes, frame))) for frame in (start, stop)]
        moved = [(frame, float(shares_at(nodes, frame)) + by) for frame in (start + ramp, stop - ramp, *inner)]
        self._try(work, [*outer, *edges, *moved])

    def try_node(self, frame: int, to_frame: int, to: float, copies: bool = False) -> None:
        """Try a node elsewhere, or a copy of it; it stays between its neighbours."""
        work = self._bench.work
        if work is None:
            return
        nodes = dict(self._start(work))
        if frame in nodes and not copies:
            before = max((f for f in nodes if f < frame), default=-1)
            after = min((f for f in nodes if f > frame), default=work.frames + 1)
            to_frame = min(max(to_frame, before + 1), after - 1)
            del nodes[frame]
        self.chosen = min(max(0, to_frame), work.frames)
        nodes[self.chosen] = to
        self._try(work, nodes.items())

    def set_node(self, frame: int) -> None:
        """Set a node on the line, without changing it."""
        if work := self._bench.work:
            nodes = self._start(work)
            self._before = strength_of([*nodes, (frame, float(shares_at(nodes, frame)))])
            self.chosen = frame
            self._try(work, self._before)

    def delete_node(self) -> None:
        """Take the chosen node away."""
        work = self._bench.work
        if work is not None and self.chosen is not None:
            self._try(work, [node for node in self._start(work) if node[0] != self.chosen])
            self.make()
            self.chosen = None

    def make(self) -> None:
        """Make the line as it was tried."""
        self._before = None
        self._coursing.keep_tried()
        self.changed.emit()

    @property
    def holds(self) -> bool:
        """Whether another line is being tried."""
        return self._before is not None

    def leave(self) -> None:
        """Leave the line as it was."""
        self._before = None
        self._coursing.drop_tried()
        self.changed.emit()

    def _start(self, work: Work) -> Nodes:
        if self._before is None:
            self._before = self.nodes(work)
        return self._before

    def _try(self, work: Work, nodes: Iterable[tuple[int, float]]) -> None:
        line = strength_of(nodes)
        frames = map_positions(work.version, work.history.original, [min(frame, work.frames) for frame, _ in line])
        told = strength_text(strength_of(zip(frames.tolist(), (share for _, share in line), strict=True)))
        self._coursing.try_settings(self._coursing.chosen, {STRENGTH: told})
        self.changed.emit()

    def _forget(self) -> None:
        self.chosen = None
