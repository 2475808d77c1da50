"""Handing the findings on: as a table or as JSON, or as markers, which go out as cue points of a WAV file."""

from __future__ import annotations

import json
from pathlib import Path

from umbrick.core.errors import ParameterError
from umbrick.core.sound.whole_file import write_whole
from umbrick.core.survey.document import as_csv, document, findings_as_json, measures_as_json
from umbrick.core.survey.finding import Finding
from umbrick.core.survey.groups import Group
from umbrick.core.survey.registry import KINDS
from umbrick.ui.bench.jobs import Job
from umbrick.ui.bench.task import Task
from umbrick.work.work import Work

SUFFIXES = (".csv", ".json")


class ListingOut(Task):
    """Writes what the docket shows."""

    def write(self, path: Path) -> None:
        """Write the findings that are shown; the ending of the name says in which form."""
        work = self._bench.work
        if work is None or self.job is not None:
            return
        findings, version_frames = shown(work), work.frames
        measures = work.measures()

        def run(_: Job) -> None:
            entry = {
                "path": work.home.name,
                "rate": work.rate,
                "channels": work.channels,
                "frames": version_frames,
                "measures": measures_as_json(measures) if measures else {},
                "findings": findings_as_json(findings, work.rate),
            }
            whole = document([entry])
            if path.suffix.lower() == ".csv":
                text = as_csv(whole)
            elif path.suffix.lower() == ".json":
                text = json.dumps(whole, indent=1, ensure_ascii=False)
            else:
                raise ParameterError(f"Findings are a table (.csv) or .json, not “{path.suffix}”.")
            write_whole(path, text.encode(), overwrite=True)

        self._run(
            f"writing {path.name}",
            run,
            lambda _: self._bench.said.emit(f"{len(findings)} findings are written: {path}."),
            "The findings were not written.",
        )


def shown(work: Work) -> list[Finding]:
    """Return the findings that the docket shows, in order of time."""
    listing = work.listing()
    return [listing.table.findings[row] for row in listing.rows.tolist()]


def label_of(finding: Finding | Group) -> str:
    """Return what a marker is called that stands for a finding, or for some that belong together."""
    return f"{KINDS[finding.kind].title}: {finding.evidence}"
