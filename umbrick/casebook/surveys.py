"""Surveys in the casebook: what was measured, and every finding that is listed."""

from __future__ import annotations

import json
import math
from dataclasses import asdict
from itertools import chain, islice
from typing import Any, NamedTuple

import numpy as np

from umbrick.casebook.errors import DamagedCasebookError
from umbrick.casebook.limits import MOST_FINDINGS, channels, loaded
from umbrick.casebook.store import Store
from umbrick.core.measure.clipped_passages import Passages
from umbrick.core.measure.levels import Levels
from umbrick.core.survey.finding import Finding
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Survey
from umbrick.core.survey.table import FindingTable

_AT_ONCE = 2000
"""Findings written in one transaction: an edit that is to be written meanwhile must not wait for all of them."""


class Surveyed(NamedTuple):
    """The last survey of a recording, how many there were, and all findings that are listed now."""

    survey: Survey
    number: int
    table: FindingTable


def write_survey(store: Store, recording: int, surveyed: Surveyed) -> None:
    """Write a survey; the one before counts until this one is whole.

    Raises
    ------
    CasebookError
        If it cannot be written; the one before counts on.
    """
    survey, listed = surveyed.survey, surveyed.table.rows
    measured = survey.table.rows
    earlier = (finding for finding in surveyed.table.findings if finding.id not in measured)
    rows = (
        (recording, surveyed.number, *_row(finding, finding.id in measured, finding.id in listed))
        for finding in chain(survey.table.findings, earlier)
    )
    store.write("DELETE FROM findings WHERE recording = ? AND survey = ?", recording, surveyed.number)
    while part := list(islice(rows, _AT_ONCE)):
        with store.transaction() as connection:
            connection.executemany(f"INSERT INTO findings VALUES ({', '.join('?' * 13)})", part)
    levels = asdict(survey.levels) | {"loudness_lufs": survey.loudness_lufs}
    store.write(
        "REPLACE INTO surveys VALUES (?, ?, ?, ?, ?, ?)",
        recording,
        surveyed.number,
        survey.frames,
        json.dumps(levels),
        survey.passages.frames,
        survey.passages.peaks.astype("<f4").tobytes(),
    )
    while store.row("SELECT 1 FROM findings WHERE recording = ? AND survey <> ? LIMIT 1", recording, surveyed.number):
        store.write(
            "DELETE FROM findings WHERE (recording, survey, id) IN"
            " (SELECT recording, survey, id FROM findings WHERE recording = ? AND survey <> ? LIMIT ?)",
            recording,
            surveyed.number,
            _AT_ONCE,
        )


def read_survey(store: Store, recording: int, count: int, frames: int) -> Surveyed | None:
    """Return the survey of a recording of ``count`` channels and ``frames`` frames, or None if there is none.

    Raises
    ------
    DamagedCasebookError
        If it makes no sense.
    """
    row = store.row(
        "SELECT number, frames, levels, passage_frames, passage_peaks FROM surveys WHERE recording = ?", recording
    )
    if row is None:
        return None
    number, surveyed, text, passage_frames, blob = row
    levels = loaded(text, dict)
    try:
        floats = {name: float(levels[name]) for name in ("peak", "true_peak", "noise_floor_dbfs", "loudness_lufs")}
    except (KeyError, TypeError, ValueError) as error:
        raise DamagedCasebookError("A survey does not say what it measured.") from error
    is_whole = passage_frames >= 1 and surveyed >= 1 and len(blob) == 4 * -(-surveyed // passage_frames)
    if not is_whole or not all(map(math.isfinite, floats.values())):
        raise DamagedCasebookError("A survey's measures make no sense.")
    measured, listed = [], []
    known: dict[str, tuple[int, ...]] = {}
    for is_measured, is_listed, *rest in store.rows(
        "SELECT is_measured, is_listed, id, kind, start, stop, channels, severity, confidence, evidence, detail"
        " FROM findings WHERE recording = ? AND survey = ? LIMIT ?",
        recording,
        number,
        MOST_FINDINGS,
    ):
        finding = _finding(rest, count, frames, known)
        if is_measured:
            measured.append(finding)
        if is_listed:
            listed.append(finding)
    loudness = floats.pop("loudness_lufs")
    peaks = np.nan_to_num(np.frombuffer(blob, "<f4")).astype(np.float32)
    table = FindingTable.of(measured)
    survey = Survey(table, surveyed, count, Levels(**floats), loudness, Passages(passage_frames, peaks))
    return Surveyed(survey, number, table if measured == listed else FindingTable.of(listed))


def _row(finding: Finding, is_measured: bool, is_listed: bool) -> tuple[Any, ...]:
    return (
        finding.id,
        int(is_measured),
        int(is_listed),
        finding.kind,
        finding.start,
        finding.stop,
        json.dumps(finding.channels),
        finding.severity,
        finding.confidence,
        finding.evidence,
        json.dumps(finding.detail) if finding.detail else "{}",
    )


def _finding(row: list[Any], count: int, frames: int, known: dict[str, tuple[int, ...]]) -> Finding:
    name, kind, start, stop, on, severity, confidence, evidence, detail = row
    if on not in known:
        known[on] = channels(on, count)
    try:
        is_sensible = 0 <= start < stop <= frames and 0 <= severity <= 1 and 0 <= confidence <= 1
    except TypeError:  # a damaged page may show anything in any column
        is_sensible = False
    if kind not in KINDS or not is_sensible or not (isinstance(name, str) and isinstance(evidence, str)):
        raise DamagedCasebookError("A finding makes no sense.")
    details = loaded(detail, dict) if detail != "{}" else {}
    return Finding(name, kind, start, stop, known[on], severity, confidence, evidence, details)
