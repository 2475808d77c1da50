"""The report as JSON (schema ``umbrick.report/1``)."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from umbrick import __version__
from umbrick.core.course.step import Step
from umbrick.core.report.facts import Facts
from umbrick.core.survey.document import findings_as_json, measures_as_json
from umbrick.core.survey.survey import Measures
from umbrick.core.timeline.history import Mend
from umbrick.core.timeline.provenance import provenance_shares

SCHEMA = "umbrick.report/1"


def document(recordings: Sequence[Facts]) -> dict[str, Any]:
    """Return the whole report as plain values."""
    return {"schema": SCHEMA, "recordings": [_entry(facts) for facts in recordings]}


def _entry(facts: Facts) -> dict[str, Any]:
    original = facts.original
    shares = provenance_shares(facts.version, original)
    return {
        "path": facts.path,
        "sha256": facts.sha256,
        "rate": original.rate,
        "depth": facts.form.subtype,
        "channels": original.channels,
        "frames": original.frames,
        "measures_before": _measures(facts.measures_before),
        "measures_after": _measures(facts.measures_after),
        "gain_db": facts.gain_db,
        "findings": [
            written | {"state": facts.state_of(finding).value, "note": facts.notes.get(finding.id, "")}
            for finding, written in zip(facts.findings, findings_as_json(facts.findings, original.rate), strict=True)
        ],
        "mends": [
            *(_mend(mend, is_on=True) for mend in facts.mends),
            *(_mend(mend, is_on=False) for mend in facts.switched_off),
            *(_step(step, facts) for step in facts.course),
        ],
        "markers": [
            {"name": cue.name, "start": cue.start, "end": cue.start + cue.length, "note": cue.note}
            for cue in facts.markers
        ],
        "timing_debt_frames": facts.timing_debt,
        "provenance_percent": {name: round(share, 6) for name, share in shares.items()},
    }


def _step(step: Step, facts: Facts) -> dict[str, Any]:
    """Return a step of the course, like a mend that covers all of its spans; these are in frames of the original."""
    spans = step.spans if step.spans is not None else ((0, facts.original.frames),)
    return {
        "method": step.method,
        "parameters": step.settings,
        "start": spans[0][0] if spans else 0,
        "end": spans[-1][1] if spans else 0,
        "channels": list(step.channels),
        "time_shift": 0,
        "seam_score": None,
        "findings": [],
        "is_on": step.is_on,
        "made_at": None,
        "program_version": __version__,
        "is_course": True,
        "spans": [list(span) for span in spans],
    }


def _measures(measures: Measures | None) -> dict[str, Any] | None:
    return None if measures is None else measures_as_json(measures)


def _mend(mend: Mend, is_on: bool) -> dict[str, Any]:
    return {
        "method": mend.method,
        "parameters": mend.parameters,
        "start": mend.start,
        "end": mend.stop,
        "channels": list(mend.channels),
        "time_shift": mend.time_shift,
        "seam_score": mend.seam_score,
        "findings": list(mend.finding_ids),
        "is_on": is_on,
        "made_at": mend.made_at or None,
        "program_version": mend.program or __version__,
    }
