"""What a method is: a pure function from sound to mended sound, with typed parameters.

There are three kinds. One *rebuilds* samples in an excerpt, and neighbouring places are computed together; one
*reworks* one place of a version, and may change its length; one *treats* all of a recording, or long spans of it, as a
step of its course (:mod:`umbrick.core.course`).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal, NamedTuple, Protocol

import numpy as np
import numpy.typing as npt

from umbrick.core.course.treatment import Treatment
from umbrick.core.errors import ParameterError
from umbrick.core.mend.parameters import Parameter, Parameters
from umbrick.core.mend.place import Masks, Place
from umbrick.core.sound.source import Samples
from umbrick.core.timeline.patch import Nature
from umbrick.core.timeline.runs import Piece
from umbrick.core.timeline.version import Version


@dataclass(frozen=True, slots=True)
class Excerpt:
    """Sound with a fault and what is around it.

    ``damage`` marks every sample, also of the context, whose value is known to be wrong; ``target``, a part of it,
    marks those to be rebuilt.
    """

    samples: Samples
    rate: int
    damage: Masks
    target: Masks


class Rebuild(Protocol):
    """Rebuilds the target samples of an excerpt."""

    def __call__(
        self, excerpt: Excerpt, parameters: Parameters, is_cancelled: Callable[[], bool] = ...
    ) -> npt.NDArray[np.float64]:
        """Return the excerpt's samples with the target rebuilt and all others as they were."""
        ...


class Stretch(NamedTuple):
    """What comes instead of a half-open span of a version: pieces, which may be longer or shorter than it."""

    start: int
    stop: int
    pieces: tuple[Piece, ...]


class Reworked(NamedTuple):
    """What a method makes of one place: stretches that ascend and do not overlap, and how they were arrived at.

    ``place`` and ``parameters`` make the same again, with everything that was chosen by itself spelled out.
    """

    stretches: tuple[Stretch, ...]
    place: Place
    parameters: Parameters
    seam_score: float | None = None


class Rework(Protocol):
    """Reworks one place of a version; all parameters are given and checked."""

    def __call__(
        self, version: Version, place: Place, parameters: Parameters, is_cancelled: Callable[[], bool], /
    ) -> Reworked:
        """Return what comes instead.

        ParameterError if the place and the parameters do not go together. What takes long raises CancelledError soon
        after ``is_cancelled`` says so.
        """
        ...


@dataclass(frozen=True, slots=True)
class Rebuilding:
    """Mends by rebuilding damaged samples; the length stays.

    ``context_seconds`` is how much sound it needs on either side, which may depend on the parameters; ``minds`` names
    the kinds of finding it must know all of nearby, so as not to rely on what is damaged; ``reach`` tells from the
    parameters how many seconds outside of a place it may change, for a crossfade or because damage reaches further
    than it seemed; ``nature`` is what the provenance says of the samples it rebuilds; ``wants_marks`` whether it must
    be told each damaged sample; ``may_leave`` whether it leaves a place as it is where it would not better it, which
    is no mend then.
    """

    rebuild: Rebuild
    context_seconds: float | Callable[[Parameters], float]
    minds: tuple[str, ...] = ()
    reach: Callable[[Parameters], float] = lambda _: 0.0
    nature: Nature = Nature.REBUILT
    wants_marks: bool = False
    may_leave: bool = False

    def context(self, parameters: Parameters) -> float:
        """Return how many seconds of sound on either side it needs."""
        return self.context_seconds(parameters) if callable(self.context_seconds) else self.context_seconds


@dataclass(frozen=True, slots=True)
class Reworking:
    """Mends by putting other pieces in; ``time_shift`` is whether that may change the length.

    ``nature`` is what the provenance says of what it makes.
    """

    rework: Rework
    time_shift: Literal["none", "some"] = "none"
    nature: Nature = Nature.REBUILT


@dataclass(frozen=True, slots=True)
class Method:
    """A method, as the registry lists it: what it is called, its settings, and what it ``does``.

    Rebuilding and reworking make mends; a treatment is laid over the recording, as a step of its course.
    """

    name: str
    title: str
    summary: str
    parameters: tuple[Parameter, ...]
    does: Rebuilding | Reworking | Treatment

    @property
    def time_shift(self) -> Literal["none", "some"]:
        """Whether it may change the length."""
        return self.does.time_shift if isinstance(self.does, Reworking) else "none"

    @property
    def minds(self) -> tuple[str, ...]:
        """The kinds of finding that it must know all of nearby."""
        return self.does.minds if isinstance(self.does, Rebuilding) else ()

    @property
    def may_leave(self) -> bool:
        """Whether it leaves a place as it is where it would not better it."""
        return isinstance(self.does, Rebuilding) and self.does.may_leave

    @property
    def nature(self) -> Nature:
        """What the provenance says of what it makes."""
        return Nature.FILTERED if isinstance(self.does, Treatment) else self.does.nature

    def told(self, parameters: Parameters) -> str:
        """Return in words which parameters are other than usual; ``as usual`` if none is."""
        unusual = [p for p in self.parameters if parameters.get(p.name, p.default) != p.default]
        return ", ".join(p.told(parameters[p.name]) for p in unusual) or "as usual"

    def checked(self, given: Parameters) -> dict[str, Any]:
        """Return all parameters, those not given by default; ParameterError for an unknown name or a bad value."""
        known = {parameter.name: parameter for parameter in self.parameters}
        for name in given:
            if name not in known:
                raise ParameterError(f"{self.name} has no parameter “{name}”.", f"It has: {', '.join(known)}.")
        return {name: p.parsed(given.get(name, p.default)) for name, p in known.items()}
