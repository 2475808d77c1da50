"""What a first look proposes: mends of some kinds of finding, or a step of the course, each with its reason."""

from __future__ import annotations

from dataclasses import dataclass, field

from umbrick.core.course.step import Step
from umbrick.core.first_look.moments import Moment
from umbrick.core.mend.parameters import Parameters
from umbrick.core.survey.finding import Finding


@dataclass(frozen=True)
class Proposal:
    """One thing to do, or better not to.

    ``findings`` are what is mended, each with its best candidate; without any it is a ``step`` of the course, ready to
    be laid over all of the recording. ``method`` and ``settings`` name it for a regimen. ``reason`` says why it is
    proposed, or had better be left out; ``expected`` what it was measured to change.
    """

    title: str
    reason: str
    is_advised: bool
    method: str
    kind: str = ""
    """Of the findings that are mended."""
    settings: Parameters = field(default_factory=dict)
    findings: tuple[Finding, ...] = ()
    step: Step | None = None
    expected: str = ""

    @property
    def can_be_done(self) -> bool:
        """Whether there is anything to switch on: what was declined is only told of."""
        return bool(self.findings) or self.step is not None


@dataclass(frozen=True)
class FirstLook:
    """Proposals in the order in which they are done, and the moments of the recording that represent it."""

    proposals: tuple[Proposal, ...]
    moments: tuple[Moment, ...]

    @property
    def advised(self) -> frozenset[int]:
        """The numbers of the proposals that had better be done, counted from 0."""
        return frozenset(number for number, one in enumerate(self.proposals) if one.is_advised)
