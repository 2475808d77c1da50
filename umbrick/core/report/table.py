"""The report as a table in CSV: one line for each finding, then one for each mend."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from umbrick.core.csv_table import csv_text
from umbrick.core.report.facts import Facts
from umbrick.core.survey.groups import names_of_groups
from umbrick.core.units import format_clock

COLUMNS = (
    "recording", "line", "kind", "start", "end", "clock", "channels", "state", "severity", "confidence", "time_shift",
    "seam_score", "what", "note", "group",
)  # fmt: skip


def as_csv(recordings: Sequence[Facts]) -> str:
    """Return the table with a heading; ``kind`` is a finding's kind or a mend's method."""
    return csv_text([COLUMNS, *(row for facts in recordings for row in _rows(facts))])


def _rows(facts: Facts) -> Iterator[tuple[object, ...]]:
    rate = facts.original.rate
    groups = names_of_groups(facts.findings, rate)
    for finding in facts.findings:
        yield (
            facts.path,
            "finding",
            finding.kind,
            finding.start,
            finding.stop,
            format_clock(finding.start, rate),
            " ".join(map(str, finding.channels)),
            facts.state_of(finding).value,
            f"{finding.severity:.3f}",
            f"{finding.confidence:.3f}",
            "",
            "",
            finding.evidence,
            facts.notes.get(finding.id, ""),
            groups.get(finding.id, ""),
        )
    for mends, state in ((facts.mends, "on"), (facts.switched_off, "switched off")):
        for mend in mends:
            yield (
                facts.path,
                "mend",
                mend.method,
                mend.start,
                mend.stop,
                format_clock(mend.start, rate),
                " ".join(map(str, mend.channels)),
                state,
                "",
                "",
                mend.time_shift,
                "" if mend.seam_score is None else f"{mend.seam_score:.3f}",
                ", ".join(f"{name}={value}" for name, value in mend.parameters.items()),
                "",
                "",
            )
    for step in facts.course:
        for start, stop in step.spans if step.spans is not None else ((0, facts.original.frames),):
            yield (
                facts.path,
                "course",
                step.method,
                start,
                stop,
                format_clock(start, rate),
                " ".join(map(str, step.channels)),
                "on" if step.is_on else "switched off",
                *("",) * 4,
                ", ".join(f"{name}={value}" for name, value in step.settings.items()),
                "",
                "",
            )
