"""The report of what was found and done (schema ``umbrick.report/1``)."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any

from umbrick import __version__
from umbrick.core.sound.recording import Recording
from umbrick.core.survey.document import finding_as_json, measures_as_json
from umbrick.core.survey.finding import Finding, State
from umbrick.core.survey.survey import Measures
from umbrick.core.timeline.history import Mend
from umbrick.core.units import format_count

SCHEMA = "umbrick.report/1"


def recording_report(
    recording: Recording,
    sha256: str,
    provenance: Mapping[str, float],
    findings: Sequence[Finding],
    states: Mapping[str, State],
    mends: Sequence[Mend],
    before: Measures,
    after: Measures,
    gain_db: float,
) -> dict[str, Any]:
    """Return one recording's entry.

    ``sha256`` is that of the source file before anything was written; ``provenance`` gives shares in percent;
    ``gain_db`` is the level change made on saving.
    """
    source = recording.source
    return {
        "path": str(recording.path),
        "sha256": sha256,
        "rate": source.rate,
        "depth": recording.format.subtype,
        "channels": source.channels,
        "frames": source.frames,
        "measures_before": measures_as_json(before),
        "measures_after": measures_as_json(after),
        "gain_db": gain_db,
        "findings": [
            finding_as_json(finding) | {"state": states.get(finding.id, State.OPEN).value} for finding in findings
        ],
        "mends": [
            {
                "method": mend.method,
                "parameters": mend.parameters,
                "start": mend.start,
                "end": mend.stop,
                "channels": list(mend.channels),
                "time_shift": mend.time_shift,
                "seam_score": mend.seam_score,
                "findings": list(mend.finding_ids),
                "program_version": __version__,
            }
            for mend in mends
        ],
        "timing_debt_frames": sum(mend.time_shift for mend in mends),
        "provenance_percent": {name: round(share, 6) for name, share in provenance.items()},
    }


def done_in_words(mends: Sequence[Mend]) -> str:
    """Return what mends did in a few words, for a file's coding history: ``12 mends: 11 declip, 1 bridge``."""
    counts = Counter(mend.method for mend in mends)
    each = ", ".join(f"{count} {method}" for method, count in counts.most_common())
    return f"{format_count(len(mends), 'mend')}: {each}" if mends else "no mends"


def document(recordings: list[dict[str, Any]]) -> dict[str, Any]:
    """Return the whole report."""
    return {"schema": SCHEMA, "recordings": recordings}
