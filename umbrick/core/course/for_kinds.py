"""Which treatment takes out a kind of finding that is not mended in its samples."""

from __future__ import annotations

from dataclasses import dataclass, field

from umbrick.core.mend.parameters import Parameters
from umbrick.core.survey.finding import Finding


@dataclass(frozen=True, slots=True)
class Laid:
    """What is laid over a recording for a finding."""

    words: str
    method: str
    settings: Parameters = field(default_factory=dict)


LAID_FOR = {
    "hum": Laid("Take out hum", "dehum"),
    "hiss": Laid("Lower noise", "denoise"),
    "dc_offset": Laid("Take out DC", "dc"),
    "rumble": Laid("Low cut", "filter", {"shape": "low_cut", "frequency_hz": 60.0}),
}
"""What runs through all of a recording."""


def laid_for(finding: Finding) -> Laid | None:
    """Return what can be laid for a finding; None if nothing is known."""
    return LAID_FOR.get(finding.kind)
