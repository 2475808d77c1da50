"""Which treatment takes out a kind of finding that is not mended in its samples: over all of it, or at its place."""

from __future__ import annotations

from dataclasses import dataclass, field

from umbrick.core.mend.parameters import Parameters
from umbrick.core.survey.finding import Finding


@dataclass(frozen=True, slots=True)
class Laid:
    """What is laid over a recording for a finding; just over the finding's own place if ``is_of_place``."""

    words: str
    method: str
    settings: Parameters = field(default_factory=dict)
    is_of_place: bool = False


LAID_FOR = {
    "hum": Laid("Take out hum", "dehum"),
    "hiss": Laid("Lower noise", "denoise"),
    "dc_offset": Laid("Take out DC", "dc"),
    "rumble": Laid("Low cut", "filter", {"shape": "low_cut", "frequency_hz": 60.0}),
}
"""What runs through all of a recording."""

_NARROWEST_HZ, _SHARPEST, _BROADEST_Q = 20.0, 20.0, 0.7


def laid_for(finding: Finding) -> Laid | None:
    """Return what can be laid for a finding; None if nothing is known."""
    band_hz = finding.detail.get("band_hz")
    if finding.kind == "intrusion" and band_hz:
        low, high = band_hz
        middle = (low * high) ** 0.5
        q = min(_SHARPEST, max(_BROADEST_Q, middle / max(_NARROWEST_HZ, high - low)))
        settings: Parameters = {"shape": "notch", "frequency_hz": round(middle, 1), "q": round(q, 2)}
        return Laid("Notch it where it sounds", "filter", settings, is_of_place=True)
    return LAID_FOR.get(finding.kind)
