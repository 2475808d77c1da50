"""What every detector is: fed blocks in order by the streaming pass, it can say at any time what they show."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Any, Protocol, TypeVar

import numpy as np
import numpy.typing as npt

from umbrick.core.sound.source import Samples
from umbrick.core.survey.finding import Family, Finding


@dataclass(frozen=True, slots=True)
class Format:
    """What a detector needs to know of a recording before its sound.

    ``step`` is the distance between neighbouring sample values (2⁻¹⁵ for 16 bit), or 0 if they are not quantised.
    """

    rate: int
    channels: int
    step: float


_Measured = TypeVar("_Measured")


class Block:
    """Frames ``start`` to ``stop`` of a recording, with what is around them.

    ``samples`` begins ``before`` frames ahead of ``start`` and goes on after ``stop`` as far as the margin and the
    recording reach, so that what lies across a border is seen whole by the block in which it begins.
    """

    def __init__(self, start: int, stop: int, samples: Samples, before: int, rate: int) -> None:
        self.start = start
        self.stop = stop
        self.samples = samples
        self.before = before
        self.rate = rate
        self._lock = threading.Lock()
        self._shared: dict[Callable[[Block], Any], tuple[threading.Lock, list[Any]]] = {}

    @property
    def own(self) -> Samples:
        """The block's own frames, without what is around them."""
        return self.samples[self.before : self.before + self.stop - self.start]

    @cached_property
    def mono(self) -> npt.NDArray[np.float32]:
        """The mean of all channels of ``samples``."""
        return self.samples.mean(axis=1) if self.samples.shape[1] > 1 else self.samples[:, 0]

    def shared(self, measure: Callable[[Block], _Measured]) -> _Measured:
        """Return what a measurement makes of this block: computed once, for whichever detector asks first."""
        with self._lock:
            lock, results = self._shared.setdefault(measure, (threading.Lock(), []))
        with lock:
            if not results:
                results.append(measure(self))
        result: _Measured = results[0]
        return result


class Detector(Protocol):
    """Measures one kind of fault."""

    def feed(self, block: Block) -> None:
        """Measure the block that follows the last one."""
        ...

    def findings(self) -> list[Finding]:
        """Return what the blocks so far show, in order of time, down to a confidence of 0.05; ids are given later."""
        ...


@dataclass(frozen=True, slots=True)
class Kind:
    """A kind of finding, as the registry lists it."""

    name: str
    title: str
    family: Family
    summary: str
    make: Callable[[Format], Detector]
    needs: tuple[Callable[[Block], Any], ...] = ()
    """The shared measurements it asks blocks for: they can be made ahead, on several cores."""
    of_outcome: bool = False
    """Whether it is looked for in what the course makes of the sound; damage is looked for beneath, where mends are."""
