"""The course laid over a version: what is heard, drawn, surveyed and saved."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from umbrick.core.course.acting import acts
from umbrick.core.course.rendered import Named, Rendered
from umbrick.core.course.step import STRENGTH, Course, Settled, Spans, Step, merged, without
from umbrick.core.course.strength import Nodes, idle_spans, parsed_strength, strength_of
from umbrick.core.course.tiles import Tiles
from umbrick.core.timeline.positions import map_positions, map_spans
from umbrick.core.timeline.runs import Integers
from umbrick.core.timeline.version import Version


@dataclass(frozen=True, eq=False)
class Ground:
    """What a course is laid over: a version of an original, some of which may be settled already; and where what comes
    of it is kept."""

    version: Version
    original: Version
    tiles: Tiles
    settled: tuple[Settled, ...] = ()

    def through(self, course: Course, as_made: bool = False) -> Version:
        """Return the version through a course: the same positions, other sound. Nothing is worked out until it is read.

        Spans of steps stay with their sound, as markers do. What steps are settled in is spared by them.
        With ``as_made`` it is what the steps made when they were laid, by the versions that treatments had then, of
        which only what is still kept can be read.

        Raises
        ------
        ParameterError
            If a step is of a treatment that this program does not have.
        """
        source: Named = self.version
        for step in course:
            if not acts(step):
                continue
            spans = self.placed(step)
            strength = self.strength(step)
            idle = idle_spans(strength, self.version.frames)
            spared = merged([*self._spared_by(step), *idle])
            acting = without(spans, spared)
            if acting:
                laid_on = None if step.spans is None else _as_array(spans)
                acts_in = _as_array(acting) if spared else None
                source = Rendered(source, step, laid_on, self.tiles, acts_in, as_made, strength)
        return self.version if source is self.version else self.version.through(source)

    def placed(self, step: Step) -> Spans:
        """Return where a step is laid."""
        if step.spans is None:
            return ((0, self.version.frames),) if self.version.frames else ()
        return self._moved(step.spans)

    def strength(self, step: Step) -> Nodes:
        """Return the line that a step's strength follows, in frames of the version."""
        nodes = parsed_strength(str(step.settings[STRENGTH]))
        if not nodes or self.version is self.original:
            return nodes
        frames = [min(frame, self.original.frames) for frame, _ in nodes]
        moved = map_positions(self.original, self.version, frames).tolist()
        return strength_of(zip(moved, (share for _, share in nodes), strict=True))

    def _spared_by(self, step: Step) -> Spans:
        return self._moved(tuple((one.start, one.stop) for one in self.settled if step.id in one.steps))

    def _moved(self, spans: Spans) -> Spans:
        if self.version is self.original:
            return merged(spans)
        return merged(map_spans(self.original, self.version, spans)) if spans else ()


def rendered_source(version: Version) -> Rendered | None:
    """Return the source of a version that a course is laid over; None if none is."""
    source = version.sources[0] if len(version.sources) == 1 else None
    return source if isinstance(source, Rendered) else None


def underneath(version: Version) -> Version:
    """Return what the course is laid over in a version; itself if none is."""
    source: object = rendered_source(version)
    while isinstance(source, Rendered):
        source = source.below
    return source if isinstance(source, Version) else version


def _as_array(spans: Spans) -> Integers:
    return np.array(spans, np.int64).reshape(-1, 2)
