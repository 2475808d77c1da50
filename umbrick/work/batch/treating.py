"""One file of a batch: surveyed, treated by the regimen, written, measured again. The same wherever it is done."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from umbrick.casebook.casebook import Casebook
from umbrick.casebook.surveys import Surveyed
from umbrick.core.errors import FileError, UmbrickError
from umbrick.core.fault_log import fault_named, note_fault
from umbrick.core.free_names import free_path
from umbrick.core.paths import cache_folder
from umbrick.core.plain_text import plain_line
from umbrick.core.processors import limit_processors
from umbrick.core.quick_transforms import use_quick_transforms
from umbrick.core.regimen.regimen import Regimen
from umbrick.core.report.document import document
from umbrick.core.report.facts import Facts
from umbrick.core.sound.identity import sha256_of
from umbrick.core.sound.recording import Recording, open_recording
from umbrick.core.sound.saving import format_for
from umbrick.core.sound.sound_file import stamp_of
from umbrick.core.survey.finding import Finding
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Survey, Surveyor
from umbrick.core.timeline.version import Version
from umbrick.core.units import format_count, format_shift
from umbrick.work.batch.gathering import Item
from umbrick.work.batch.naming import AS_IT_IS, named
from umbrick.work.doing import Done, by_regimen, write

_NO_ROOM = "There is no room left"


def _alone() -> bool:
    """One file takes one processor: others are busy with other files."""
    return True


DONE, SURVEYED, FAILED = "done", "surveyed", "failed"


@dataclass(frozen=True)
class Order:
    """What is done to every file of a batch. Plain values, so that other processes can be given it."""

    out: str
    regimen: dict[str, Any]
    subtype: str | None = None
    ceiling_dbfs: float | None = None
    with_casebooks: bool = False
    is_dry: bool = False
    overwrite: bool = False
    suffix: str = ""
    """Another ending for the results, which says their format."""
    rate: int | None = None
    """Another rate for the results."""
    name: str = AS_IT_IS
    """The pattern that results are named by."""


def treat(order: Order, item: Item, may_replace: bool) -> dict[str, Any]:
    """Return the entry of one file for the report; what goes wrong is told in it and is no error of the batch.

    Parameters
    ----------
    order : Order
    item : Item
    may_replace : bool
        Whether what stands in the result's place was made by this batch before.
    """
    limit_processors(1)
    use_quick_transforms()
    try:
        return _treated(order, item, may_replace)
    except UmbrickError as error:
        return failure(item, str(error), is_full=str(error).startswith(_NO_ROOM))
    except OSError as error:
        return failure(item, f"{item.source.name} cannot be read: {error.strerror or error}.")
    except MemoryError:
        return failure(item, f"There is not enough memory for {item.source.name}.")
    except Exception as error:
        note_fault(error)
        return failure(item, f"{item.source.name} met a {fault_named(error)}.")


def failure(item: Item, reason: str, is_full: bool = False) -> dict[str, Any]:
    """Return the entry of a file that could not be done."""
    return {"path": str(item.source), "status": FAILED, "reason": plain_line(reason), "disk_is_full": is_full}


def target_of(order: Order, item: Item) -> Path:
    """Return where the result of a file goes."""
    regimen = str(order.regimen.get("name", ""))
    return named(Path(order.out) / item.place, item.source, order.name, regimen, order.suffix)


def _treated(order: Order, item: Item, may_replace: bool) -> dict[str, Any]:
    regimen = Regimen.parsed(order.regimen)
    target = target_of(order, item)
    if not order.is_dry and target.exists():
        if item.source.exists() and target.samefile(item.source):
            raise FileError(f"{target.name} is the source itself.", "Choose another output folder.")
        if not (may_replace or order.overwrite):
            raise FileError(f"{target} exists already.", "It was not touched; give --overwrite to replace it.")
    recording = open_recording(item.source, cache_folder())
    try:
        form = format_for(target, recording.format, order.subtype)
        survey = Surveyor(recording.source, recording.format.bits, list(KINDS.values())).run(leaves_a_core=_alone)
        recording.refuse_damage()
        sensitivity = dict(regimen.sensitivity)
        findings = survey.sifted(sensitivity)
        original = Version.of(recording.source)
        sha256 = sha256_of(item.source)
        stamp = stamp_of(item.source)
        if order.is_dry:
            done = Done(original, (), survey.levels.peak)
            facts = _facts(recording, sha256, original, done, findings, survey, None, 0.0, sensitivity)
            return _entry(facts, done, SURVEYED, survey, sensitivity) | {"stamp": list(stamp or ())}
        done = by_regimen(original, regimen, findings, survey.levels.peak)
        gain_db = done.gain_db(form, order.ceiling_dbfs)
        recording.check_unchanged()
        target.parent.mkdir(parents=True, exist_ok=True)
        rate = order.rate if order.rate != recording.source.rate else None
        saved = write(recording, done, target, form, gain_db, overwrite=target.exists(), rate=rate)
        after = _survey_of(target)
        facts = _facts(recording, sha256, original, done, findings, survey, after, gain_db, sensitivity)
        entry = _entry(facts, done, DONE, survey, sensitivity)
        if order.with_casebooks:
            entry["casebook"] = str(_write_casebook(recording, target, done, survey, regimen))
        if saved.over:
            entry["ear"].insert(0, f"{format_count(saved.over, 'sample')} passed full scale and were cut off")
        return entry | {
            "output": str(saved.path),
            "output_sha256": sha256_of(saved.path),
            "coding_history": saved.coding_line,
            "note": saved.note,
            "stamp": list(stamp or ()),
            "output_stamp": list(stamp_of(saved.path) or ()),
        }
    finally:
        recording.close()


def _survey_of(path: Path) -> Survey:
    written = open_recording(path, cache_folder())
    try:
        return Surveyor(written.source, written.format.bits, list(KINDS.values())).run(leaves_a_core=_alone)
    finally:
        written.close()


def _facts(
    recording: Recording,
    sha256: str,
    original: Version,
    done: Done,
    findings: list[Finding],
    survey: Survey,
    after: Survey | None,
    gain_db: float,
    sensitivity: dict[str, float],
) -> Facts:
    return Facts(
        str(recording.path), sha256, recording.format, original, done.version, findings, done.states, done.mends,
        measures_before=survey.measures(sensitivity),
        measures_after=after.measures(sensitivity) if after is not None else None,
        gain_db=gain_db,
        course=done.course,
    )  # fmt: skip


def _entry(facts: Facts, done: Done, status: str, survey: Survey, sensitivity: dict[str, float]) -> dict[str, Any]:
    (told,) = document([facts])["recordings"]
    return told | {"status": status, "ear": _for_an_ear(facts, done, survey, sensitivity), "told": list(done.told)}


def _for_an_ear(facts: Facts, done: Done, survey: Survey, sensitivity: dict[str, float]) -> list[str]:
    """Return why a person should listen to a file, the gravest reason first; nothing if there is none."""
    reasons = []
    prognosis = survey.measures(sensitivity).prognosis
    if prognosis.grade == "poor":
        reasons.append(f"Prognosis poor: {prognosis.reason}")
    if done.ran is not None:
        if count := len(done.ran.doubtful):
            reasons.append(f"{format_count(count, 'doubtful finding')} left as found")
        if count := len(done.ran.mended.refused):
            reasons.append(f"{format_count(count, 'place')} could not be mended")
        reasons += [f"Declined: {reason}" for reason in done.ran.declined]
    if facts.timing_debt:
        reasons.append(f"The length changed by {format_shift(facts.timing_debt, facts.original.rate)}")
    if prognosis.grade == "fair":
        reasons.append(f"Prognosis fair: {prognosis.reason}")
    return reasons


def _write_casebook(recording: Recording, target: Path, done: Done, survey: Survey, regimen: Regimen) -> Path:
    """Write what was done as a casebook beside the result, in which a person can look, and lift off what they will."""
    path = free_path(target.with_suffix(".casebook"))  # somebody may have worked on in the one that is there
    casebook = Casebook.create(path)
    try:
        shelf = casebook.add(recording)
        shelf.write_survey(Surveyed(survey, 1, survey.table))
        history = shelf.history(recording.source).history
        if done.ran is not None and (done.mends or done.course):
            shelf.commit(history, done.ran.edit(regimen.name), done.version)
    finally:
        casebook.close()
    os.utime(path)
    return path
