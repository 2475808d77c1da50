"""Findings written down for other programs: JSON (schema ``umbrick.findings/1``) and CSV."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from umbrick.core.csv_table import csv_text
from umbrick.core.sound.recording import Recording
from umbrick.core.survey.finding import Finding
from umbrick.core.survey.groups import names_of_groups
from umbrick.core.survey.survey import Measures, Survey

SCHEMA = "umbrick.findings/1"
_COLUMNS = ("path", "id", "kind", "start", "end", "seconds", "channels", "severity", "confidence", "evidence", "group")


def recording_as_json(
    path: str, recording: Recording, survey: Survey, sensitivity: Mapping[str, float]
) -> dict[str, Any]:
    """Return one recording's entry of the findings document."""
    return {
        "path": path,
        "rate": recording.source.rate,
        "channels": recording.source.channels,
        "frames": recording.source.frames,
        "measures": measures_as_json(survey.measures(sensitivity)),
        "findings": findings_as_json(survey.sifted(sensitivity), recording.source.rate),
    }


def measures_as_json(measures: Measures) -> dict[str, Any]:
    """Return measures as plain values, rounded to what they are good for."""
    return {
        "peak_dbfs": round(measures.peak_dbfs, 2),
        "true_peak_dbtp": round(measures.true_peak_dbtp, 2),
        "loudness_lufs": round(measures.loudness_lufs, 2),
        "noise_floor_dbfs": round(measures.noise_floor_dbfs, 1),
        "clipped_share": round(measures.clipped_share, 9),
        "hum_hz": None if measures.hum_hz is None else round(measures.hum_hz, 3),
        "prognosis": measures.prognosis.grade,
        "prognosis_reason": measures.prognosis.reason,
    }


def findings_as_json(findings: Sequence[Finding], rate: int) -> list[dict[str, Any]]:
    """Return findings as plain values; the detail of those that belong together names their ``group``."""
    groups = names_of_groups(findings, rate)
    return [
        {
            "id": finding.id,
            "kind": finding.kind,
            "start": finding.start,
            "end": finding.stop,
            "channels": list(finding.channels),
            "severity": finding.severity,
            "confidence": finding.confidence,
            "evidence": finding.evidence,
            "detail": finding.detail | ({"group": groups[finding.id]} if finding.id in groups else {}),
        }
        for finding in findings
    ]


def document(recordings: list[dict[str, Any]]) -> dict[str, Any]:
    """Return the whole findings document."""
    return {"schema": SCHEMA, "recordings": recordings}


def as_csv(whole: dict[str, Any]) -> str:
    """Return a findings document as CSV with a heading, one finding a line."""
    rows: list[Sequence[object]] = [_COLUMNS]
    for recording in whole["recordings"]:
        for finding in recording["findings"]:
            row = finding | {
                "path": recording["path"],
                "seconds": f"{finding['start'] / recording['rate']:.6f}",
                "channels": " ".join(map(str, finding["channels"])),
                "group": finding["detail"].get("group", ""),
            }
            rows.append([row[column] for column in _COLUMNS])
    return csv_text(rows)
