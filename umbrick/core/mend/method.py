"""What a method is: a pure function from sound to mended sound, with typed parameters.

There are two kinds. One *rebuilds* samples in an excerpt, and neighbouring places are computed together; the other
*reworks* one place of a version, and may change its length.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, Literal, NamedTuple, Protocol

import numpy as np
import numpy.typing as npt

from umbrick.core.errors import ParameterError
from umbrick.core.mend.place import Masks, Place
from umbrick.core.sound.source import Samples
from umbrick.core.timeline.patch import Nature
from umbrick.core.timeline.runs import Piece
from umbrick.core.timeline.version import Version

Value = float | str
Parameters = Mapping[str, Value]


@dataclass(frozen=True, slots=True)
class Parameter:
    """One setting of a method.

    A ``choice`` takes one of ``choices``; a ``number`` lies from ``low`` to ``high`` in ``unit``, and may also be one
    of ``choices`` (such as ``auto``); a ``text`` is whatever ``check`` does not raise a ParameterError for.
    """

    name: str
    kind: Literal["choice", "number", "text"]
    default: Value
    summary: str
    choices: tuple[str, ...] = ()
    unit: str = ""
    low: float | None = None
    high: float | None = None
    check: Callable[[str], object] = str

    def parsed(self, value: Value) -> Value:
        """Return a typed or given value as the method takes it.

        Raises
        ------
        ParameterError
            If it is not among the choices, not a number, or out of range.
        """
        text = str(value).strip()
        if text in self.choices:
            return text
        if self.kind == "text":
            self.check(text)
            return text
        if self.kind == "choice":
            raise ParameterError(f"{self.name} is one of {', '.join(self.choices)}, not “{text}”.")
        try:
            number = float(text.replace("−", "-").replace(",", ".").removesuffix(self.unit).strip())
        except ValueError:
            number = float("nan")
        low = -np.inf if self.low is None else self.low
        high = np.inf if self.high is None else self.high
        if not low <= number <= high:
            also = f", or {' or '.join(self.choices)}" if self.choices else ""
            raise ParameterError(f"{self.name} is a number from {low:g} to {high:g} {self.unit}{also}, not “{text}”.")
        return number

    def told(self, value: Value) -> str:
        """Return a value in words, such as ``crossfade 2 ms``."""
        words = self.name.removesuffix(f"_{self.unit.lower()}").replace("_", " ")
        if isinstance(value, str):
            return f"{words} {value}"
        return f"{words} {value:g} {self.unit}".strip().replace("-", "−")


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
class Method:
    """A method, as the registry lists it; it has either ``rebuild`` or ``rework``.

    ``context_seconds`` is how much sound it needs on either side, which may depend on the parameters; ``minds`` names
    the kinds of finding it must know all of nearby, so as not to rely on what is damaged; ``reach`` tells from the
    parameters how many seconds outside of a place it may change, for a crossfade or because damage reaches further
    than it seemed; ``nature`` is what the provenance says of the samples it rebuilds; ``time_shift`` whether it may
    change the length; ``wants_marks`` whether it must be told each damaged sample; ``may_leave`` whether it leaves a
    place as it is where it would not better it, which is no mend then.
    """

    name: str
    title: str
    summary: str
    parameters: tuple[Parameter, ...]
    context_seconds: float | Callable[[Parameters], float]
    rebuild: Rebuild | None = None
    rework: Rework | None = None
    minds: tuple[str, ...] = ()
    reach: Callable[[Parameters], float] = lambda _: 0.0
    nature: Nature = Nature.REBUILT
    time_shift: Literal["none", "some"] = "none"
    wants_marks: bool = False
    may_leave: bool = False

    def context(self, parameters: Parameters) -> float:
        """Return how many seconds of sound on either side it needs."""
        return self.context_seconds(parameters) if callable(self.context_seconds) else self.context_seconds

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
