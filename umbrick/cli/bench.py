"""``umbrick FILE…`` and ``umbrick demo``: open the bench."""

from __future__ import annotations

from pathlib import Path

import click

from umbrick.core.errors import FileError

_SHOT_OPTION = click.option(
    "--shot", metavar="FILE.png", type=click.Path(dir_okay=False), help="Save a picture of the loaded bench and end."
)


@click.command("bench")
@click.argument("files", nargs=-1, type=click.Path())
def bench_command(files: tuple[str, ...]) -> None:
    """Open the bench with these recordings or casebooks."""
    missing = [file for file in files if not Path(file).exists()]
    if missing:
        raise FileError(f"There is no file {missing[0]}.")
    _open([Path(file) for file in files], None)


def edit_for_another_program(file: str) -> None:
    """Open one recording straight away; putting it back (F2) closes the bench."""
    if not Path(file).is_file():
        raise FileError(f"There is no file {file}.")
    _open([Path(file)], None, is_round_trip=True)


@click.command("demo")
@_SHOT_OPTION
def demo_command(shot: str | None) -> None:
    """Open the bench with the demo recordings."""
    from umbrick.demo import recordings

    _open(recordings(), Path(shot) if shot else None)


def _open(files: list[Path], shot: Path | None, is_round_trip: bool = False) -> None:
    # The interface takes most of a second to import; the other commands do without it.
    from umbrick.ui.application import run

    status = run(files, shot, is_round_trip)
    if status:
        raise SystemExit(status)
