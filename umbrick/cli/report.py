"""``umbrick report``: what was found and done."""

from __future__ import annotations

import os
from pathlib import Path

import click

from umbrick.casebook.casebook import Casebook, is_casebook
from umbrick.casebook.errors import CasebookError, CasebookInUseError, DamagedCasebookError
from umbrick.casebook.reporting import facts_of_shelf
from umbrick.casebook.unnamed import adopted
from umbrick.cli.options import overwrite_option, quiet_option
from umbrick.cli.output import one_line, progress_bar, say, warn, write_json, write_text
from umbrick.cli.survey import run_survey
from umbrick.core.errors import FileError, UmbrickError
from umbrick.core.paths import cache_folder
from umbrick.core.report.document import document
from umbrick.core.report.facts import Facts
from umbrick.core.report.page import page
from umbrick.core.report.table import as_csv
from umbrick.core.sound.identity import sha256_of
from umbrick.core.sound.recording import Recording, open_recording
from umbrick.core.survey.registry import KINDS
from umbrick.core.timeline.version import Version
from umbrick.core.units import format_count


@click.command("report")
@click.argument("file", metavar="CASEBOOK|FILE", type=click.Path())
@click.option("--html", "html_path", metavar="PATH|-", help="Write a page with pictures, in one file.")
@click.option("--csv", "csv_path", metavar="PATH|-", help="Write a table, one line a finding or mend.")
@click.option("--json", "json_path", metavar="PATH|-", help="Write all of it as JSON (umbrick.report/1).")
@overwrite_option
@quiet_option
def report_command(
    file: str, html_path: str | None, csv_path: str | None, json_path: str | None, overwrite: bool, quiet: bool
) -> None:
    """Tell what was found and done: of all recordings of a CASEBOOK, or what a survey finds in one FILE."""
    path = Path(file)
    if not path.exists():
        raise FileError(f"There is no file {file}.")
    found: list[tuple[Facts, Recording | None]] = []
    failed = False
    casebook: Casebook | None = None
    try:
        casebook = _opened(path) if is_casebook(path) else None
        try:
            if casebook is None:
                found.append(_surveyed(path, quiet))
            else:
                for shelf in casebook.shelves():
                    try:
                        with progress_bar("Measuring", quiet) as progress:
                            found.append(facts_of_shelf(shelf, progress))
                    except UmbrickError as error:  # one entry that cannot be read leaves the others
                        warn(f"umbrick: {one_line(error)}")
                        failed = True
            facts = [one for one, _ in found]
            if json_path:
                write_json(json_path, document(facts), overwrite)
            if csv_path:
                write_text(csv_path, as_csv(facts), overwrite)
            if html_path:
                write_text(html_path, page(facts), overwrite)
        finally:
            if casebook is not None:
                _let_go(casebook, path)
    finally:
        for _, recording in found:
            if recording is not None:
                recording.close()
    if not quiet and "-" not in (html_path, csv_path, json_path):
        for one in facts:
            mends = format_count(len(one.mends), "mend")
            say(f"{one.path}: {format_count(len(one.findings), 'finding')}, {mends}.")
    if failed:
        raise SystemExit(1)


def _opened(path: Path) -> Casebook:
    """Open a casebook, or a copy of one that may not be written to: a report only reads."""
    try:
        return Casebook.open(path)
    except (CasebookInUseError, DamagedCasebookError):
        raise
    except CasebookError:
        if os.access(path, os.W_OK) and os.access(path.parent, os.W_OK):
            raise
        return adopted(path)


def _let_go(casebook: Casebook, path: Path) -> None:
    if casebook.path == path.absolute():
        casebook.close()
    else:
        casebook.discard()


def _surveyed(path: Path, quiet: bool) -> tuple[Facts, Recording]:
    recording = open_recording(path, cache_folder())
    try:
        survey = run_survey(recording, list(KINDS.values()), quiet)
        original = Version.of(recording.source)
        facts = Facts(
            str(path),
            sha256_of(path),
            recording.format,
            original,
            original,
            survey.sifted({}),
            {},
            [],
            measures_before=survey.measures({}),
        )
    except BaseException:
        recording.close()
        raise
    return facts, recording
