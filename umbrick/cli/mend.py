"""``umbrick mend``: surveys and mends without a window, or applies one method at given places."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
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
from umbrick.core.course.acting import makes_all_anew, method_of, treatment_of
from umbrick.core.course.ahead import highest_sample, read_ahead
from umbrick.core.course.laid import Ground
from umbrick.core.course.learning import learned, new_step
from umbrick.core.course.step import Course
from umbrick.core.course.tiles import Tiles
from umbrick.core.course.treatment import Treatment
from umbrick.core.errors import FileError, ParameterError
from umbrick.core.measure.headroom import fitting_gain_db
from umbrick.core.mend.method import Method, Rebuilding
from umbrick.core.mend.place import Place
from umbrick.core.mend.plan import SURE_ENOUGH, Batch, Plan, carried_out, run
from umbrick.core.mend.registry import method_named
from umbrick.core.mend.remedies import is_mendable
from umbrick.core.paths import cache_folder
from umbrick.core.report.document import document
from umbrick.core.report.facts import Facts, done_in_words
from umbrick.core.sound.formats import FileFormat, change_of_form
from umbrick.core.sound.identity import sha256_of
from umbrick.core.sound.kept_originals import free_name, write_down
from umbrick.core.sound.part_file import real_target
from umbrick.core.sound.recording import Recording, open_recording
from umbrick.core.sound.saving import Papers, Saved, format_for, over_message, save
from umbrick.core.sound.sound_file import real_path
from umbrick.core.sound.whole_file import refuse_no_folder
from umbrick.core.survey.detector import Kind
from umbrick.core.survey.finding import Finding, State
from umbrick.core.survey.survey import Survey
from umbrick.core.timeline.history import Mend
from umbrick.core.timeline.version import Version
from umbrick.core.units import amplitude_to_db, format_clock, format_count, format_lowering, parse_db, parse_frames

_SHORT_SECONDS = 0.02
"""A span no longer than this, in which the survey found nothing, is taken for damaged as a whole."""

_UNASKED = ("clipping", "click", "mouth_click", "crackle", "dropout", "discontinuity")
"""Kinds that are mended if none are named: damage, not taste, and by nothing that changes the length."""


@dataclass(frozen=True)
class _Result:
    """What was done: the mended version, its mends, the course laid over it, and the highest sample of the outcome."""

    version: Version
    mends: tuple[Mend, ...]
    peak: float
    course: Course = ()
    outcome: Version | None = None

    @property
    def count(self) -> int:
        """How many things were done."""
        return len(self.mends) + len(self.course)


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
            result = _laid(original, method, parameters, places, quiet, form.is_fixed_point or ceiling is not None)
        elif survey is not None and method is not None:
            places = _chosen(places, findings, method, parameters, recording)
            result = _applied(original, Batch(method, parameters, places), findings, survey, quiet)
        elif survey is not None:
            names = {kind.name for kind in wanted} if kinds else set(_UNASKED)
            sure = findings if kinds else _sure_enough(findings, sensitivity)
            plan = Plan(tuple(f for f in sure if f.kind in names), spares_the_sound=not kinds)
            result = _mended(original, plan, findings, survey, quiet)
        gain_db = _gain_db(result, form, ceiling_dbfs)
        recording.check_unchanged()
        sha256 = sha256_of(path) if report_path else ""
        keep_as = free_name(path.parent, path, "original") if in_place else None
        with (
            progress_bar(f"Writing {output.name}", quiet) as progress,
            read_ahead(result.outcome or result.version) as sound,
        ):
            saved = save(
                sound,
                output,
                form,
                papers=_papers(recording, result, form),
                origin_format=recording.format,
                gain_db=gain_db,
                made_anew=makes_all_anew(result.course),
                overwrite=overwrite or in_place,
                keep_as=keep_as,
                on_kept=lambda: write_down(path, keep_as) if keep_as else None,
                progress=progress,
            )
        if report_path and survey is not None:
            after = _survey_of(saved, track if form.has_tracks else None, wanted, quiet)
            mended = {finding_id: State.MENDED for mend in result.mends for finding_id in mend.finding_ids}
            facts = Facts(
                str(recording.path),
                sha256,
                recording.format,
                original,
                result.version,
                findings,
                mended,
                result.mends,
                measures_before=survey.measures(sensitivity),
                measures_after=after.measures(sensitivity),
                gain_db=gain_db,
                course=result.course,
            )
            write_json(report_path, document([facts]), overwrite)
    finally:
        recording.close()
    _tell(saved, result, gain_db, as_json, quiet)
    if in_place and (changed := change_of_form(recording.format, saved.format)):
        warn(f"umbrick: {changed}")


def _format(recording: Recording, output: Path, subtype: str) -> FileFormat:
    return format_for(output, recording.format, None if subtype == "same" else subtype)


def _papers(recording: Recording, result: _Result, form: FileFormat) -> Papers:
    done = done_in_words(result.mends, result.course)
    track = recording.track if form.has_tracks else None
    moved_by = result.version.frames - recording.source.frames
    return Papers(recording.path, done=done, track=track, moved_by=moved_by)


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


def _chosen(
    places: list[Place], findings: list[Finding], method: Method, parameters: dict[str, Any], recording: Recording
) -> list[Place]:
    """Return the places as the method takes them: declipping wants just the clipped samples in them."""
    wants_marks = isinstance(method.does, Rebuilding) and method.does.wants_marks
    if not wants_marks or parameters.get("rail_dbfs", "auto") != "auto":
        return places
    chosen = []
    for place in places:
        inside = [
            Place(max(f.start, place.start), min(f.stop, place.stop), channels, (f.id,))
            for f in findings
            if f.kind in method.minds and f.start < place.stop and f.stop > place.start
            if (channels := tuple(sorted(set(f.channels) & set(place.channels))))
        ]
        if not inside and place.stop - place.start <= _SHORT_SECONDS * recording.source.rate:
            inside = [place]
        chosen += inside
    if not chosen:
        raise ParameterError(
            "The survey found nothing to mend there.", "Give the level the sound was cut off at: --set rail_dbfs=-1."
        )
    return chosen


def _laid(
    original: Version,
    method: Method,
    parameters: dict[str, Any],
    places: Sequence[Place],
    quiet: bool,
    measures_peak: bool,
) -> _Result:
    """Return the recording with a treatment laid over it, at places or over all of it."""
    spans = [(place.start, place.stop) for place in places]
    is_all = spans == [(0, original.frames)]
    ground = Ground(original, original, Tiles())
    step = new_step(method, parameters, places[0].channels, None if is_all else spans, ())
    if treatment_of(step).measures:
        with progress_bar(f"Measuring for {method.title}", quiet) as progress:
            step = learned(ground, (), step, progress)
    outcome = ground.through((step,))
    peak = 0.0
    if measures_peak:
        with progress_bar(method.title, quiet) as progress:
            peak = highest_sample(outcome, progress)
    return _Result(original, (), peak, (step,), outcome)


def _sure_enough(findings: list[Finding], asked: Mapping[str, float]) -> list[Finding]:
    """Return the findings that are mended although no one named their kinds; say how many are left for that."""
    chosen = [f for f in findings if f.kind in _UNASKED and (f.confidence >= SURE_ENOUGH or f.kind in asked)]
    if left := sum(finding.kind in _UNASKED for finding in findings) - len(chosen):
        warn(f"umbrick: {format_count(left, 'doubtful finding')} left as found; --kinds NAME mends those too.")
    return chosen


def _mended(original: Version, plan: Plan, findings: Sequence[Finding], survey: Survey, quiet: bool) -> _Result:
    """Return the recording mended by a plan; what was left as found is told of."""
    with progress_bar("Mending", quiet) as progress:
        done = run(original, plan, findings, progress)
    if done.better_left:
        warn(f"umbrick: {format_count(done.better_left, 'finding')} better left as found: a mend would hardly gain.")
    for place, why in done.refused:
        warn(f"umbrick: {format_clock(place.start, original.rate)} was left as it is: {why}")
    if done.made_of:
        warn(f"umbrick: {format_count(done.made_of, 'click')} left: this sound is made of them; --kinds click.")
    return _Result(done.version, done.mends, max(survey.levels.peak, done.peak))


def _applied(original: Version, batch: Batch, findings: Sequence[Finding], survey: Survey, quiet: bool) -> _Result:
    """Return the recording with a method applied; a place that cannot be mended is an error."""
    with progress_bar(batch.method.title, quiet) as progress:
        mended, refused = carried_out(original, [batch], findings, progress)
    for _, why in refused:
        raise why
    if mended is None:
        return _Result(original, (), survey.levels.peak)
    return _Result(mended.version, mended.mends, max(survey.levels.peak, mended.peak))


def _gain_db(result: _Result, form: FileFormat, ceiling_dbfs: float | None) -> float:
    if ceiling_dbfs is not None:
        return fitting_gain_db(result.peak, ceiling_dbfs)
    return fitting_gain_db(result.peak) if form.is_fixed_point and result.count else 0.0


def _survey_of(saved: Saved, track: int | None, kinds: list[Kind], quiet: bool) -> Survey:
    written = open_recording(saved.path, cache_folder(), track)
    try:
        return run_survey(written, kinds, quiet)
    finally:
        written.close()


def _tell(saved: Saved, result: _Result, gain_db: float, as_json: bool, quiet: bool) -> None:
    if as_json:
        document = {
            "path": str(saved.path),
            "container": saved.format.container,
            "subtype": saved.format.subtype,
            "mends": result.count,
            "gain_db": round(gain_db, 1),
            "peak_dbfs": round(amplitude_to_db(result.peak) + gain_db, 2),
            "cut_off_samples": saved.over,
            "kept": str(saved.kept) if saved.kept else None,
        }
        write_json("-", document, overwrite=False)
    elif not quiet:
        done = format_count(len(result.mends), "mend") if result.mends else "nothing was mended"
        if result.course:
            done = f"{method_of(result.course[0]).title.lower()} laid over it"
        say(f"{saved.path}: {done}, {saved.format.name}.")
        if gain_db:
            say(f"Lowered by {format_lowering(gain_db)} so that the peaks fit; --subtype FLOAT keeps the level.")
        if saved.kept:
            say(f"The old file is kept as {saved.kept}.")
    if saved.over:
        warn(f"umbrick: {over_message(saved.over)}")
    if saved.note:
        warn(f"umbrick: {saved.note}")
