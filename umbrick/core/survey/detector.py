"""What every detector is: fed blocks in order by the streaming pass, it can say at any time what they show."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

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


@dataclass(frozen=True, slots=True)
class Block:
    """Frames ``start`` to ``stop`` of a recording, with what is around them.

    ``samples`` begins ``before`` frames ahead of ``start`` and goes on after ``stop`` as far as the margin and the
    recording reach, so that what lies across a border is seen whole by the block in which it begins.
    """

    start: int
    stop: int
    samples: Samples
    before: int


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
