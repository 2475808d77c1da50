"""Which mends a first look proposes: of damage that is sure, kind by kind."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from umbrick.core.first_look.moments import weight
from umbrick.core.first_look.proposal import Proposal
from umbrick.core.mend.plan import SURE_ENOUGH
from umbrick.core.mend.remedies import first_remedy
from umbrick.core.mend.taken_out import are_many_and_faint
from umbrick.core.survey.finding import Finding
from umbrick.core.survey.registry import KINDS
from umbrick.core.timeline.version import Version
from umbrick.core.units import format_clock, format_count

DAMAGE = (
    ("clipping", "Rebuild clipped peaks"),
    ("click", "Take out clicks"),
    ("crackle", "Take out crackle"),
    ("thump", "Take out knocks"),
    ("slip", "Put slips right"),
    ("dropout", "Fill dropouts"),
    ("discontinuity", "Mend breaks"),
    ("stutter", "Undo stutters"),
    ("plosive", "Soften plosives"),
    ("mouth_click", "Take out mouth clicks"),
    ("sibilance", "Soften sharp consonants"),
)
"""Kinds that are mended place by place, in their order, and what that is called."""


_A_VOICES_OWN, _FEWEST = ("thump", "plosive", "mouth_click", "sibilance"), 3
"""Kinds of which a few are as likely how somebody speaks."""

OF_A_LINE = "dropout", "discontinuity"
_VERY_SURE = 0.9
"""Sound that comes again is as likely meant, unless there are several and the line has other faults too."""


def mends_proposed(version: Version, findings: Sequence[Finding], kind: str, title: str) -> Proposal | None:
    """Return what is proposed for the open findings of a kind; None if there are none."""
    own = [finding for finding in findings if finding.kind == kind]
    if not own:
        return None
    sure = tuple(finding for finding in own if finding.confidence >= SURE_ENOUGH)
    worst = max(sure or own, key=lambda finding: (weight(finding), -finding.start))
    remedy = first_remedy(worst, version)
    if remedy is None:
        return None
    doubted = Proposal(title, "", False, remedy.method.name, kind, remedy.settings)
    noun = KINDS[kind].title.lower()
    if not sure:
        reason = f"Just {format_count(len(own), 'doubtful place')} of {noun}: better looked at one by one."
        return replace(doubted, reason=reason)
    count = format_count(len(sure), "place")
    where = f"{count}, {'the worst ' if len(sure) > 1 else ''}at {format_clock(worst.start, version.rate)}"
    doubtful = f"; {len(own) - len(sure)} doubtful left as found" if len(own) > len(sure) else ""
    against = ""
    if kind in _A_VOICES_OWN and len(sure) < _FEWEST:
        against = f"Just {where}: better judged by ear."
    elif kind == "stutter" and not _are_a_lines(sure, findings):
        against = f"{where}: what comes again may be meant."
    elif kind == "click" and are_many_and_faint(sure, version):
        against = "Very many clicks, most of them faint: this sound may be made of them."
    elif not remedy.is_advised:
        against = f"{count} of {noun}, but a mend would hardly gain."
    return replace(doubted, reason=against or f"{where}{doubtful}.", findings=sure, is_advised=not against)


def _are_a_lines(stutters: Sequence[Finding], findings: Sequence[Finding]) -> bool:
    """Whether stutters are those of a line that has other faults too."""
    very_sure = [finding for finding in stutters if finding.confidence >= _VERY_SURE]
    others = any(finding.kind in OF_A_LINE and finding.confidence >= SURE_ENOUGH for finding in findings)
    return len(very_sure) >= _FEWEST and others
