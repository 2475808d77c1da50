"""The report of a batch: JSON for programs, CSV for tables, and a page for people, what needs an ear on top."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Mapping, Sequence
from html import escape
from pathlib import Path
from typing import Any

from umbrick import __version__
from umbrick.core.csv_table import csv_text
from umbrick.core.errors import FileError
from umbrick.core.sound.whole_file import explained, write_whole
from umbrick.core.units import format_count
from umbrick.work.batch.treating import FAILED

SCHEMA = "umbrick.report/1"
_GRADES = {"poor": 0, "fair": 1, "good": 2}
_INTERNAL = {"key", "stamp", "output_stamp", "disk_is_full"}
_COLUMNS = ("path", "status", "needs_ear", "reason", "prognosis_before", "prognosis_after", "findings", "mends",
            "loudness_before", "loudness_after", "noise_floor_before", "noise_floor_after", "timing_debt_frames",
            "output", "sha256", "output_sha256", "coding_history")  # fmt: skip


def report_document(entries: Sequence[Mapping[str, Any]], regimen: Mapping[str, Any]) -> dict[str, Any]:
    """Return the report as plain values (schema ``umbrick.report/1``): what needs an ear first, failures apart."""
    done = [entry for entry in entries if entry["status"] != FAILED]
    failed = [entry for entry in entries if entry["status"] == FAILED]
    return {
        "schema": SCHEMA,
        "program_version": __version__,
        "regimen": dict(regimen),
        "recordings": [_public(entry) for entry in sorted(done, key=_order)],
        "failures": [{"path": entry["path"], "reason": entry["reason"]} for entry in failed],
    }


def write_report(entries: Sequence[Mapping[str, Any]], regimen: Mapping[str, Any], path: Path) -> None:
    """Write the report as JSON, and beside it as a page and a table, over those of before: it tells of all so far.

    Raises
    ------
    FileError
        If it cannot be written.
    """
    document = report_document(entries, regimen)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise FileError(*explained(error, path)) from error
    # Names of files may be no text at all: as escapes they come back as they were.
    write_whole(path, (json.dumps(document, indent=1, allow_nan=False) + "\n").encode(), overwrite=True)
    write_whole(path.with_suffix(".html"), as_page(document, path.parent).encode(errors="replace"), overwrite=True)
    write_whole(path.with_suffix(".csv"), as_csv(document).encode(errors="backslashreplace"), overwrite=True)


def as_csv(document: Mapping[str, Any]) -> str:
    """Return the report as CSV with a heading, a file a line."""
    rows: list[Sequence[object]] = [_COLUMNS]
    rows += [[_cells(entry)[column] for column in _COLUMNS] for entry in document["recordings"]]
    for entry in document["failures"]:
        row = dict.fromkeys(_COLUMNS, "") | {"path": entry["path"], "status": FAILED, "reason": entry["reason"]}
        rows.append([row[column] for column in _COLUMNS])
    return csv_text(rows)


def as_page(document: Mapping[str, Any], folder: Path) -> str:
    """Return the report as a page that needs nothing beside it; links lead to the results from ``folder``."""
    recordings, failures = document["recordings"], document["failures"]
    ear = sum(bool(entry["ear"]) for entry in recordings)
    told = (
        f"{format_count(len(recordings), 'file')} treated, {format_count(len(failures), 'file')} failed; "
        f"{format_count(ear, 'file')} worth a human ear."
    )
    heads = "".join(f"<th>{name}</th>" for name in ("File", "For an ear", "Prognosis", "Findings", "Mends", "Loudness",
                                                    "Noise floor", "Peaks"))  # fmt: skip
    rows = "".join(_row(entry, folder) for entry in recordings)
    failed = "".join(f"<tr><td>{escape(_plain(f['path']))}</td><td>{escape(f['reason'])}</td></tr>" for f in failures)
    failed_table = f"<h2>Not done</h2><table><tr><th>File</th><th>Why</th></tr>{failed}</table>" if failures else ""
    return (
        '<!DOCTYPE html>\n<html lang="en"><head><meta charset="utf-8"><title>Batch report</title>'
        f"<style>{_STYLE}</style></head><body><h1>{escape(str(document['regimen'].get('name') or 'Batch'))}</h1>"
        f'<p class="faint">{told} Umbrick {__version__}. A click on a heading sorts.</p>{failed_table}'
        f'<h2>Treated</h2><table class="sorted"><thead><tr>{heads}</tr></thead><tbody>{rows}</tbody></table>'
        f"<script>{_SCRIPT}</script></body></html>\n"
    )


def _public(entry: Mapping[str, Any]) -> dict[str, Any]:
    return {name: value for name, value in entry.items() if name not in _INTERNAL}


def _order(entry: Mapping[str, Any]) -> tuple[bool, int, int, str]:
    measures = entry.get("measures_before") or {}
    return not entry["ear"], _GRADES.get(str(measures.get("prognosis")), 1), -len(entry["ear"]), str(entry["path"])


def _cells(entry: Mapping[str, Any]) -> dict[str, object]:
    before, after = entry.get("measures_before") or {}, entry.get("measures_after") or {}
    return {
        "path": entry["path"],
        "status": entry["status"],
        "needs_ear": "; ".join(entry["ear"]),
        "reason": "",
        "prognosis_before": before.get("prognosis", ""),
        "prognosis_after": after.get("prognosis", ""),
        "findings": len(entry["findings"]),
        "mends": len(entry["mends"]),
        "loudness_before": before.get("loudness_lufs", ""),
        "loudness_after": after.get("loudness_lufs", ""),
        "noise_floor_before": before.get("noise_floor_dbfs", ""),
        "noise_floor_after": after.get("noise_floor_dbfs", ""),
        "timing_debt_frames": entry["timing_debt_frames"],
        "output": entry.get("output", ""),
        "sha256": entry["sha256"],
        "output_sha256": entry.get("output_sha256", ""),
        "coding_history": entry.get("coding_history", ""),
    }


def _row(entry: Mapping[str, Any], folder: Path) -> str:
    before, after = entry.get("measures_before") or {}, entry.get("measures_after") or {}
    name = escape(_plain(entry["path"].rsplit("/", 1)[-1]))
    if output := entry.get("output"):
        try:
            target = Path(output).absolute().relative_to(folder.absolute())
        except ValueError:
            target = Path(output).absolute()
        name = f'<a href="{escape(_plain(str(target)))}">{name}</a>'
    kinds = Counter(str(finding["kind"]) for finding in entry["findings"])
    found = ", ".join(f"{count} {kind.replace('_', ' ')}" for kind, count in kinds.most_common(4))
    cells = [
        name,
        escape("; ".join(entry["ear"])),
        _change(before, after, "prognosis"),
        f'{len(entry["findings"])}<div class="faint">{escape(found)}</div>',
        str(len(entry["mends"])),
        _change(before, after, "loudness_lufs"),
        _change(before, after, "noise_floor_dbfs"),
        _picture(entry),
    ]
    return f"<tr>{''.join(f'<td>{cell}</td>' for cell in cells)}</tr>"


def _change(before: Mapping[str, Any], after: Mapping[str, Any], name: str) -> str:
    one, other = before.get(name, ""), after.get(name, "")
    return escape(str(one)) if other in ("", one) else f"{escape(str(one))} → {escape(str(other))}"


def _picture(entry: Mapping[str, Any]) -> str:
    """Return where the findings are, as a small picture."""
    frames = max(1, int(entry["frames"]))
    marks = "".join(
        f'<rect x="{160 * finding["start"] / frames:.1f}" y="2" height="12" '
        f'width="{max(0.8, 160 * (finding["end"] - finding["start"]) / frames):.1f}"/>'
        for finding in entry["findings"][:400]
        if finding["end"] - finding["start"] < frames
    )
    return f'<svg viewBox="0 0 160 16" width="160" height="16">{marks}</svg>'


def _plain(text: str) -> str:
    return text.encode("utf-8", "replace").decode("utf-8")


_STYLE = """
body { background: #F6F1E7; color: #2A231D; font: 15px/1.5 "IBM Plex Sans", sans-serif; max-width: 1240px;
  margin: 32px auto; padding: 0 24px; font-variant-numeric: tabular-nums; }
h1 { font-size: 24px; } h2 { font-size: 19px; margin-top: 32px; }
table { border-collapse: collapse; width: 100%; } th { text-align: left; color: #6F6355; cursor: pointer; }
th, td { padding: 4px 12px 4px 0; border-bottom: 1px solid #CDBFA9; vertical-align: top; }
.faint { color: #6F6355; font-size: 13px; } a { color: #1E6A70; } svg { background: #FBF8F1; } rect { fill: #B0402A; }
"""
_SCRIPT = """
document.querySelectorAll("table.sorted th").forEach((head, column) => head.addEventListener("click", () => {
  const body = head.closest("table").tBodies[0], rows = [...body.rows], up = head.dataset.up !== "1";
  head.dataset.up = up ? "1" : "0";
  const value = row => row.cells[column].innerText.trim();
  rows.sort((a, b) => { const x = parseFloat(value(a)), y = parseFloat(value(b));
    const order = isNaN(x) || isNaN(y) ? value(a).localeCompare(value(b)) : x - y; return up ? order : -order; });
  rows.forEach(row => body.append(row));
}));
"""
