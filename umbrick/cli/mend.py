"""``umbrick mend``: surveys and mends without a window, or applies one method at given places."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import click

from umbrick.cli.options import (
    complete_methods,
    kinds_option,
    overwrite_option,
    parse_kinds,
    parse_pairs,
    parse_sensitivities,
    quiet_option,
    sensitivity_option,
    track_option,
)
from umbrick.cli.output import progress_bar, refuse_existing, say, warn, write_json
from umbrick.cli.survey import run_survey
from umbrick.core.course.acting import method_of
from umbrick.core.course.treatment import Treatment
from umbrick.core.errors import FileError, ParameterError
from umbrick.core.mend.method import Method
from umbrick.core.mend.place import Place
from umbrick.core.mend.plan import Batch, Plan
from umbrick.core.mend.registry import method_named
from umbrick.core.mend.remedies import is_mendable
from umbrick.core.mend.side_by_side import processes
from umbrick.core.paths import cache_folder
from umbrick.core.regimen.regimen import Regimen
from umbrick.core.report.document import document
from umbrick.core.report.facts import Facts
from umbrick.core.sound.formats import FileFormat, change_of_form
from umbrick.core.sound.identity import sha256_of
from umbrick.core.sound.kept_originals import free_name, write_down
from umbrick.core.sound.part_file import real_target
from umbrick.core.sound.recording import Recording, open_recording
from umbrick.core.sound.saving import Saved, format_for, over_message
from umbrick.core.sound.sound_file import real_path
from umbrick.core.sound.whole_file import refuse_no_folder
from umbrick.core.survey.detector import Kind
from umbrick.core.survey.finding import Finding
from umbrick.core.survey.survey import Survey
from umbrick.core.timeline.version import Version
from umbrick.core.units import amplitude_to_db, format_count, format_lowering, parse_db, parse_frames
from umbrick.work.doing import (
    Done,
    by_method,
    by_plan,
    by_regimen,
    by_treatment,
    places_for,
    sure_enough,
    write,
)


@click.command("mend")
@click.argument("source", metavar="IN", type=click.Path())
@click.argument("target", metavar="[OUT]", type=click.Path(), required=False)
@kinds_option
@sensitivity_option
@click.option(
    "--method",
    "method_name",
    metavar="NAME",
    shell_complete=complete_methods,
    help="Apply this method at the places of --at.",
)
@click.option("--regimen", "regimen_path", metavar="FILE", help="Run a regimen (umbrick.regimen/1) instead.")
@click.option("--at", "spans", metavar="START-END[,…]", help="Places, in frames or with a unit (1.25s-1.3s), or all.")
@click.option("--channels", metavar="0,1", help="Only these channels, counted from 0.")
@click.option("--set", "settings", metavar="KEY=VALUE", multiple=True, help="A parameter of the method; repeatable.")
@click.option(
    "--subtype",
    type=click.Choice(["same", "PCM_16", "PCM_24", "FLOAT"]),
    default="same",
    show_default=True,
    help="Sample format of the result.",
)
@click.option("--ceiling", metavar="DBFS", help="Lower the level so that no sample passes this.")
@click.option("--report", "report_path", metavar="PATH", help="Write what was found and done as JSON.")
@click.option("--in-place", is_flag=True, help="Put the result in place of IN, in one step; the old file is kept.")
@click.option("--json", "as_json", is_flag=True, help="Say the result as JSON.")
@track_option
@overwrite_option
@quiet_option
def mend_command(
    source: str,
    target: str | None,
    kinds: str | None,
    sensitivities: tuple[str, ...],
    method_name: str | None,
    regimen_path: str | None,
    spans: str | None,
    channels: str | None,
    settings: tuple[str, ...],
    subtype: str,
    ceiling: str | None,
    report_path: str | None,
    in_place: bool,
    as_json: bool,
    track: int | None,
    overwrite: bool,
    quiet: bool,
) -> None:
    """Survey a recording and mend what was found, or apply one METHOD at given places."""
    if (target is None) != in_place:
        raise click.UsageError("Give either a file OUT to write, or --in-place.")
    if (method_name is None) != (spans is None):
        raise click.UsageError("--method and --at go together.")
    if regimen_path is not None and (method_name or kinds or sensitivities):
        raise click.UsageError("--regimen says itself what is done: give neither --method, --kinds nor --sensitivity.")
    if method_name is None and (settings or channels):
        raise click.UsageError("--set and --channels need a --method.")
    wanted = parse_kinds(kinds)
    sensitivity = parse_sensitivities(sensitivities)
    try:
        method = method_named(method_name) if method_name else None
        parameters = method.checked(parse_pairs(settings)) if method else {}
        ceiling_dbfs = parse_db(ceiling) if ceiling is not None else None
    except ParameterError as error:
        raise click.UsageError(str(error)) from error
    regimen = Regimen.load(Path(regimen_path)) if regimen_path is not None else None
    if regimen is not None:
        sensitivity = dict(regimen.sensitivity)
    # What is put in place goes where a link leads to; the link stays a link.
    path = real_path(Path(source)) if in_place else Path(source)
    output = path if in_place else Path(str(target))
    if method is None and kinds:
        _refuse_unmendable(wanted)
    recording = open_recording(path, cache_folder(), track)
    try:
        form = _format(recording, output, subtype)
        _refuse_target(path, output, in_place, overwrite)
        if report_path:
            refuse_existing(report_path, overwrite)
        places = _places(spans, recording, channels) if spans is not None else []
        original = Version.of(recording.source)
        is_laid = method is not None and isinstance(method.does, Treatment)
        survey = run_survey(recording, wanted, quiet) if report_path or not is_laid else None
        recording.refuse_damage()
        findings = survey.sifted(sensitivity) if survey else []
        if method is not None and is_laid:
            measures_peak = form.is_fixed_point or ceiling is not None
            done = _laid(original, method, parameters, places, quiet, measures_peak)
        elif survey is not None and method is not None:
            places = places_for(places, findings, method, parameters, recording.source.rate)
            with progress_bar(method.title, quiet) as progress, processes():
                done = by_method(original, Batch(method, parameters, places), findings, survey.levels.peak, progress)
        elif survey is not None and regimen is not None:
            with progress_bar(regimen.name, quiet) as progress, processes():
                done = by_regimen(original, regimen, findings, survey.levels.peak, progress)
        elif survey is not None:
            plan = _plan(findings, wanted if kinds else None, sensitivity)
            with progress_bar("Mending", quiet) as progress, processes():
                done = by_plan(original, plan, findings, survey.levels.peak, progress)
        for sentence in done.told:
            warn(f"umbrick: {sentence}")
        gain_db = done.gain_db(form, ceiling_dbfs)
        recording.check_unchanged()
        sha256 = sha256_of(path) if report_path else ""
        keep_as = free_name(path.parent, path, "original") if in_place else None
        with progress_bar(f"Writing {output.name}", quiet) as progress:
            saved = write(
                recording,
                done,
                output,
                form,
                gain_db,
                overwrite=overwrite or in_place,
                keep_as=keep_as,
                on_kept=lambda: write_down(path, keep_as) if keep_as else None,
                progress=progress,
            )
        if report_path and survey is not None:
            after = _survey_of(saved, track if form.has_tracks else None, wanted, quiet)
            facts = Facts(
                str(recording.path),
                sha256,
                recording.format,
                original,
                done.version,
                findings,
                done.states,
                done.mends,
                measures_before=survey.measures(sensitivity),
                measures_after=after.measures(sensitivity),
                gain_db=gain_db,
                course=done.course,
            )
            write_json(report_path, document([facts]), overwrite)
    finally:
        recording.close()
    _tell(saved, done, gain_db, as_json, quiet)
    if in_place and (changed := change_of_form(recording.format, saved.format)):
        warn(f"umbrick: {changed}")


def _format(recording: Recording, output: Path, subtype: str) -> FileFormat:
    return format_for(output, recording.format, None if subtype == "same" else subtype)


def _refuse_unmendable(kinds: list[Kind]) -> None:
    """Say of kinds that nothing mends so; ParameterError if there are no others."""
    unmendable = [kind.title.lower() for kind in kinds if not is_mendable(kind.name)]
    if unmendable:
        told = f"There is no method yet for {', '.join(unmendable)}."
        if len(unmendable) == len(kinds):
            raise ParameterError(told, "Nothing was written.")
        warn(f"umbrick: {told}")


def _refuse_target(path: Path, output: Path, in_place: bool, overwrite: bool) -> None:
    refuse_no_folder(real_target(output))
    if not in_place and output.exists() and output.samefile(path):
        raise FileError(f"{output.name} is the source itself.", "Give --in-place to replace it; the old file is kept.")
    if output.exists() and not (overwrite or in_place):
        raise FileError(f"{output.name} exists already.", "It was not touched; give --overwrite to replace it.")


def _places(spans: str, recording: Recording, channels: str | None) -> list[Place]:
    source = recording.source
    try:
        chosen = tuple(sorted({int(c) for c in channels.split(",")})) if channels else tuple(range(source.channels))
    except ValueError as error:
        raise click.UsageError(f"“{channels}” is not a list of channels such as 0,1.") from error
    if not all(0 <= channel < source.channels for channel in chosen):
        raise ParameterError(f"The recording has channels 0 to {source.channels - 1}, not {channels}.")
    if spans.strip() == "all":
        return [Place(0, source.frames, chosen)]
    places = []
    for span in spans.split(","):
        first, dash, last = span.strip().rpartition("-")
        try:
            start, stop = parse_frames(first, source.rate), parse_frames(last, source.rate)
        except ParameterError as error:
            raise click.UsageError(f"“{span}” is not START-END. {error.hint}") from error
        if not dash or not 0 <= start < stop <= source.frames:
            raise ParameterError(f"“{span}” is not a span of the recording, which has {source.frames} frames.")
        places.append(Place(start, stop, chosen))
    return places


def _laid(
    original: Version,
    method: Method,
    parameters: dict[str, Any],
    places: Sequence[Place],
    quiet: bool,
    measures_peak: bool,
) -> Done:
    """Return the recording with a treatment laid over it, with a progress bar for each thing that takes long."""
    with (
        progress_bar(f"Measuring for {method.title}", quiet) as measuring,
        progress_bar(method.title, quiet) as treating,
    ):
        return by_treatment(original, method, parameters, places, measures_peak, measuring, treating)


def _plan(findings: list[Finding], named: list[Kind] | None, asked: Mapping[str, float]) -> Plan:
    """Return the plan for the kinds that were named, or for what is sure; say how many are left for that."""
    if named is not None:
        names = {kind.name for kind in named}
        return Plan(tuple(finding for finding in findings if finding.kind in names))
    chosen, left = sure_enough(findings, asked)
    if left:
        warn(f"umbrick: {format_count(left, 'doubtful finding')} left as found; --kinds NAME mends those too.")
    return Plan(tuple(chosen), spares_the_sound=True)


def _survey_of(saved: Saved, track: int | None, kinds: list[Kind], quiet: bool) -> Survey:
    written = open_recording(saved.path, cache_folder(), track)
    try:
        return run_survey(written, kinds, quiet)
    finally:
        written.close()


def _tell(saved: Saved, done: Done, gain_db: float, as_json: bool, quiet: bool) -> None:
    if as_json:
        document = {
            "path": str(saved.path),
            "container": saved.format.container,
            "subtype": saved.format.subtype,
            "mends": done.count,
            "gain_db": round(gain_db, 1),
            "peak_dbfs": round(amplitude_to_db(done.peak) + gain_db, 2),
            "cut_off_samples": saved.over,
            "kept": str(saved.kept) if saved.kept else None,
        }
        write_json("-", document, overwrite=False)
    elif not quiet:
        words = format_count(len(done.mends), "mend") if done.mends else "nothing was mended"
        if done.course:
            laid = " and ".join(method_of(step).title.lower() for step in done.course)
            words = f"{words}, {laid} laid over it" if done.mends else f"{laid} laid over it"
        say(f"{saved.path}: {words}, {saved.format.name}.")
        if gain_db:
            say(f"Lowered by {format_lowering(gain_db)} so that the peaks fit; --subtype FLOAT keeps the level.")
        if saved.kept:
            say(f"The old file is kept as {saved.kept}.")
    if saved.over:
        warn(f"umbrick: {over_message(saved.over)}")
    if saved.note:
        warn(f"umbrick: {saved.note}")
