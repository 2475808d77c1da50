"""Writing the report of the recordings on the bench."""

from __future__ import annotations

import json
from pathlib import Path

from PySide6.QtCore import Signal

from umbrick.casebook.reporting import facts_of
from umbrick.casebook.surveys import Surveyed
from umbrick.core.errors import ParameterError
from umbrick.core.report.document import document
from umbrick.core.report.facts import Facts
from umbrick.core.report.page import page
from umbrick.core.report.table import as_csv
from umbrick.core.sound.identity import sha256_of
from umbrick.core.sound.whole_file import write_whole
from umbrick.ui.bench.jobs import Job
from umbrick.ui.bench.task import Task
from umbrick.work.work import Work

SUFFIXES = (".html", ".csv", ".json")


class Reporting(Task):
    """Writes the report in the background: measuring what was mended takes a pass over each recording."""

    written = Signal(Path)

    def write(self, path: Path) -> None:
        """Write the report of the current recording; the ending of the name says in which form."""
        work = self._bench.work
        if work is None or self.job is not None:
            return

        def run(job: Job) -> None:
            facts = [facts_of_work(work, job)]
            write_whole(path, written_as(path, facts, job).encode(), overwrite=True)

        def done(_: object) -> None:
            self._bench.said.emit(f"The report is written: {path}.")
            self.written.emit(path)

        self._run(f"reporting to {path.name}", run, done, "The report was not written.")


def facts_of_work(work: Work, job: Job) -> Facts:
    """Return what is known of a recording on the bench."""
    surveyed = Surveyed(work.survey, work.survey_count, work.found) if work.survey else None
    sha256 = work.shelf.reference().sha256 or sha256_of(work.recording.path, job.is_cancelled)
    return facts_of(
        str(work.home),
        sha256,
        work.recording.format,
        work.history,
        surveyed,
        work.sensitivity,
        work.closed_now,
        True,
        lambda share: job.report(0.8 * share),
        job.is_cancelled,
    )


def written_as(path: Path, facts: list[Facts], job: Job) -> str:
    """Return a report in the form that a file name asks for; ParameterError if it asks for none."""
    suffix = path.suffix.lower()
    if suffix == ".html":
        return page(facts, lambda share: job.report(0.8 + 0.2 * share), job.is_cancelled)
    if suffix == ".csv":
        return as_csv(facts)
    if suffix == ".json":
        return json.dumps(document(facts), indent=1, ensure_ascii=False)
    raise ParameterError(f"A report is a page (.html), a table (.csv) or .json, not “{path.suffix}”.")
