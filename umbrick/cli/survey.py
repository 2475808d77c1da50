"""``umbrick survey``: measures recordings and lists their findings."""

from __future__ import annotations

from collections import Counter
from contextlib import closing
from pathlib import Path

import click

from umbrick.cli.options import (
    kinds_option,
    overwrite_option,
    parse_kinds,
    parse_sensitivities,
    quiet_option,
    sensitivity_option,
    track_option,
)
from umbrick.cli.output import fault_told, one_line, progress_bar, say, warn, write_json, write_text
from umbrick.core.errors import UmbrickError
from umbrick.core.paths import cache_folder
from umbrick.core.quick_transforms import use_quick_transforms
from umbrick.core.sound.recording import Recording, open_recording
from umbrick.core.survey.detector import Kind
from umbrick.core.survey.document import as_csv, document, recording_as_json
from umbrick.core.survey.groups import Group, together
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Survey, Surveyor
from umbrick.core.units import channel_name, format_clock, format_count


@click.command("survey")
@click.argument("files", nargs=-1, required=True, type=click.Path())
@kinds_option
@sensitivity_option
@click.option("--json", "json_path", metavar="PATH|-", help="Write the findings as JSON (umbrick.findings/1).")
@click.option("--csv", "csv_path", metavar="PATH|-", help="Write the findings as CSV.")
@track_option
@overwrite_option
@quiet_option
def survey_command(
    files: tuple[str, ...],
    kinds: str | None,
    sensitivities: tuple[str, ...],
    json_path: str | None,
    csv_path: str | None,
    track: int | None,
    overwrite: bool,
    quiet: bool,
) -> None:
    """Measure recordings and list their findings."""
    wanted = parse_kinds(kinds)
    sensitivity = parse_sensitivities(sensitivities)
    entries = []
    failed = False
    for file in files:
        try:
            with closing(open_recording(Path(file), cache_folder(), track)) as recording:
                survey = run_survey(recording, wanted, quiet)
                entries.append(recording_as_json(file, recording, survey, sensitivity))
                if damage := recording.damage_found():
                    warn(f"umbrick: {damage}")
                    failed = True
                if not quiet and "-" not in (json_path, csv_path):
                    _describe(file, recording, survey, sensitivity)
        except UmbrickError as error:
            warn(f"umbrick: {one_line(error)}")
            failed = True
        except BrokenPipeError:  # no one reads on, as after ``| head``
            raise
        except Exception as error:  # the others are listed all the same
            warn(f"umbrick: {Path(file).name}: {fault_told(error)}")
            failed = True
    whole = document(entries)
    if json_path:
        write_json(json_path, whole, overwrite)
    if csv_path:
        write_text(csv_path, as_csv(whole), overwrite)
    if failed:
        raise SystemExit(1)


def run_survey(recording: Recording, kinds: list[Kind], quiet: bool) -> Survey:
    """Survey a recording with a progress bar."""
    use_quick_transforms()
    surveyor = Surveyor(recording.source, recording.format.bits, kinds)
    with progress_bar(f"Surveying {recording.path.name}", quiet) as progress:
        return surveyor.run(progress)


def _describe(file: str, recording: Recording, survey: Survey, sensitivity: dict[str, float]) -> None:
    findings = survey.sifted(sensitivity)
    say(f"{file}: {survey.measures(sensitivity).prognosis.reason}")
    for kind, count in Counter(finding.kind for finding in findings).items():
        say(f"  {KINDS[kind].title}: {format_count(count, 'finding')}")
    count, rate = recording.source.channels, recording.source.rate
    for entry in together(findings, rate):
        names = " and ".join(channel_name(channel, count) for channel in entry.channels)
        where = f" ({names})" if count > 1 else ""
        clock = entry.clock(rate) if isinstance(entry, Group) else format_clock(entry.start, rate)
        say(f"    {clock}  {entry.evidence}{where}, confidence {entry.confidence:.2f}")
