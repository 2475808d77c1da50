"""Surveying the current recording: findings appear as they are found."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

from umbrick.casebook.surveys import Surveyed
from umbrick.core.errors import CancelledError
from umbrick.core.survey.excerpt import local_kinds, survey_span
from umbrick.core.survey.finding import Finding, State
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Survey, Surveyor
from umbrick.core.survey.table import FindingTable
from umbrick.core.units import format_clock, format_count
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job
from umbrick.ui.bench.task import Task
from umbrick.work.work import Work, merged


class Surveying(Task):
    """Runs surveys, one at a time."""

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self.leaves_a_core: Callable[[], bool] = lambda: False
        """Whether something plays, which must not wait for what a survey does."""

    def start(self) -> None:
        """Survey the current version of the current recording."""
        work = self._bench.work
        if work is None or self.job is not None:
            return
        work.survey_count += 1
        kinds = list(KINDS.values())
        version, original = work.outcome, work.history.original
        in_place, decided = work.history.is_in_place, work.decided()
        surveyor = Surveyor(
            version, work.recording.format.bits, kinds, prefix=f"{work.survey_count}.", beneath=work.version
        )

        def survey(job: Job) -> tuple[Survey, FindingTable]:
            def placed(found: Survey) -> tuple[Survey, FindingTable]:
                if not in_place:
                    found = replace(found, table=found.table.moved(version, original))
                return found, merged(found, decided)

            def came(found: Survey) -> None:
                job.came.emit(placed(found))

            try:
                found = surveyor.run(job.report, job.is_cancelled, came, self.leaves_a_core)
            except CancelledError:
                came(surveyor.so_far())
                raise
            return placed(found)

        job = self._run(
            "survey", survey, lambda result: self._finished(work, result), "", lambda result: self._take(work, result)
        )
        job.cancelled.connect(lambda: self._stopped(work))

    def start_selection(self) -> None:
        """Survey just the selection, with some seconds around it; what was listed there and is open is found anew."""
        work = self._bench.work
        if work is None or work.selection is None or self.job is not None:
            return
        work.survey_count += 1
        start, stop = work.selection.span
        version, original, bits = work.outcome, work.history.original, work.recording.format.bits
        in_place = work.history.is_in_place
        prefix = f"{work.survey_count}."

        def survey(job: Job) -> FindingTable:
            found = survey_span(version, bits, local_kinds(), start, stop, job.report, job.is_cancelled)
            named = [replace(finding, id=f"{prefix}f{number}") for number, finding in enumerate(found, 1)]
            table = FindingTable.of(named)
            return table if in_place else table.moved(version, original)

        self._run(
            "survey of the selection", survey, lambda new: self._merge(work, (start, stop), new), "Survey stopped."
        )

    def _merge(self, work: Work, span: tuple[int, int], new: FindingTable) -> None:
        """List what was found in a span instead of what was open there."""
        if work.survey is None:
            self._bench.said.emit("Survey the whole first (F5): a part alone has no measures.")
            return
        listing = work.listing()
        local = {kind.name for kind in local_kinds()}
        inside = {
            finding.id
            for row in listing.table.within(*span).tolist()
            if (finding := listing.table.findings[row]).kind in local and listing.state_of(finding) is State.OPEN
        }
        work.found = FindingTable.of([*(old for old in work.found.findings if old.id not in inside), *new.findings])
        work.survey = replace(work.survey, table=work.found)
        self._keep(work)
        if work is self._bench.work:
            work.follow_focus()
            self._bench.findings_changed.emit()
            shown = int(work.found.passing(work.sensitivity)[[work.found.rows[f.id] for f in new.findings]].sum())
            self._bench.said.emit(f"The selection is surveyed: {format_count(shown, 'finding')} there.")

    def list_more(self, work: Work, found: Sequence[Finding]) -> bool:
        """List findings of the version that is worked on beside those of the survey; whether there is one."""
        if work.survey is None:
            return False
        work.survey_count += 1
        named = FindingTable.of([replace(one, id=f"{work.survey_count}.f{one.id}") for one in found])
        table = named if work.history.is_in_place else named.moved(work.version, work.history.original)
        work.found = FindingTable.of([*work.found.findings, *table.findings])
        work.survey = replace(work.survey, table=work.found)
        self._keep(work)
        self._bench.findings_changed.emit()
        return True

    def _keep(self, work: Work) -> None:
        """Write the survey to the casebook, behind the work."""
        if work.survey is None:
            return
        surveyed = Surveyed(work.survey, work.survey_count, work.found)
        self._bench.jobs.start("keeping the survey", lambda _: work.shelf.write_survey(surveyed), lambda _: None)

    def _take(self, work: Work, found: tuple[Survey, FindingTable]) -> None:
        survey, table = found
        if missing := [finding for finding in work.decided() if finding.id not in table.rows]:
            # Decided about while the survey ran: they stay listed as what they are.
            table = merged(replace(survey, table=table), missing)
        work.survey, work.found = survey, table
        if work is self._bench.work:
            self._bench.findings_changed.emit()

    def _finished(self, work: Work, found: tuple[Survey, FindingTable]) -> None:
        self._take(work, found)
        self._keep(work)
        count = len(work.listing().open_rows)
        self._bench.said.emit(
            f"Survey done: {format_count(count, 'open finding')}." if count else "Survey done: no faults found."
        )

    def _stopped(self, work: Work) -> None:
        self._keep(work)
        frames = work.survey.frames if work.survey else 0
        self._bench.said.emit(f"Survey stopped at {format_clock(frames, work.rate, 0)}; what came is listed.")
