"""``umbrick align``: how recordings of one event lie against each other."""

from __future__ import annotations

from contextlib import ExitStack, closing
from pathlib import Path

import click

from umbrick.cli.options import overwrite_option, quiet_option
from umbrick.cli.output import progress_bar, refuse_existing, say, warn, write_json
from umbrick.core.linking.clock import Clock
from umbrick.core.linking.together import align_all
from umbrick.core.paths import cache_folder
from umbrick.core.sound.recording import open_recording
from umbrick.core.units import format_count

_SCHEMA = "umbrick.align/1"


@click.command("align")
@click.argument("files", metavar="FILE FILE…", nargs=-1, required=True, type=click.Path())
@click.option("--json", "json_path", metavar="PATH|-", help="Write offsets and drifts as JSON (umbrick.align/1).")
@overwrite_option
@quiet_option
def align_command(files: tuple[str, ...], json_path: str | None, overwrite: bool, quiet: bool) -> None:
    """Measure offset and drift of recordings of one event against the first."""
    if len(files) < 2:
        raise click.UsageError("Give at least two files.")
    if json_path:
        refuse_existing(json_path, overwrite)
    with ExitStack() as opened:
        recordings = [
            (Path(file).name, opened.enter_context(closing(open_recording(Path(file), cache_folder()))).source)
            for file in files
        ]
        with progress_bar("Aligning", quiet or json_path == "-") as progress:
            placed = align_all(recordings, progress)
    known = [(file, place.clock) for file, place in zip(files, placed, strict=True) if place.clock is not None]
    if json_path:
        write_json(
            json_path, {"schema": _SCHEMA, "recordings": [_entry(file, clock) for file, clock in known]}, overwrite
        )
    if json_path != "-" and not quiet:
        for file, clock in known[1:]:
            say(f"{file}: {_told(clock)}")
    for place in placed:
        if place.clock is None:
            warn(f"umbrick: {place.why}")
    if len(known) < len(files):
        raise SystemExit(1)


def _entry(file: str, clock: Clock) -> dict[str, object]:
    return {
        "path": file,
        "offset_frames": round(clock.offset_frames, 3),
        "drift_ppm": round(clock.drift_ppm, 4),
        "confidence": round(clock.confidence, 3),
    }


def _told(clock: Clock) -> str:
    whole = round(abs(clock.offset_frames))
    earlier = "earlier" if clock.offset_frames >= 0 else "later"
    drift = f", drifts by {clock.drift_ppm:+.2f} ppm" if clock.drift_ppm else ", no drift"
    return (
        f"starts {format_count(whole, 'frame')} ({whole / clock.rate:.4f} s) {earlier} than the first{drift}, "
        f"confidence {clock.confidence:.2f}."
    )
