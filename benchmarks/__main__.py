"""Runs benchmarks by name, all if none is given: ``./run bench [NAME…] [--corpus FOLDER]``."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from benchmarks import (
    areas,
    blanks,
    breaking,
    casebook,
    clicks,
    clipped_then,
    collapsing,
    course,
    crackle,
    declip,
    detection,
    faint,
    finding,
    first_look,
    fitting,
    gaps,
    hands,
    hum,
    knees,
    lanes,
    lines,
    linking,
    mended_lines,
    monkey,
    noise,
    opening,
    painting,
    playing,
    repeating,
    resurvey,
    room,
    seams,
    starting,
    survey_speed,
    thumps,
    transfer,
    untouched,
    voice,
)
from umbrick.demo import recordings

BENCHMARKS = {
    module.__name__.rpartition(".")[2]: module
    for module in (
        starting,
        breaking,
        monkey,
        noise,
        opening,
        painting,
        hands,
        hum,
        room,
        voice,
        areas,
        first_look,
        knees,
        lanes,
        linking,
        casebook,
        survey_speed,
        detection,
        clipped_then,
        finding,
        repeating,
        transfer,
        lines,
        mended_lines,
        untouched,
        declip,
        clicks,
        faint,
        crackle,
        thumps,
        gaps,
        blanks,
        collapsing,
        resurvey,
        seams,
        playing,
        course,
        fitting,
    )
}


def main() -> None:
    """Parse the command line and run."""
    parser = argparse.ArgumentParser(prog="./run bench", description=__doc__)
    parser.add_argument("names", nargs="*", metavar="NAME", help=f"of {', '.join(BENCHMARKS)}")
    parser.add_argument("--corpus", type=Path, help="folder of clean recordings; the demo's clean parts if not given")
    arguments = parser.parse_args()
    if unknown := set(arguments.names) - set(BENCHMARKS):
        parser.error(f"no benchmark {', '.join(sorted(unknown))}")
    files = sorted(arguments.corpus.glob("*.*")) if arguments.corpus else recordings()
    files = [file for file in files if file.suffix in (".wav", ".flac")]
    if not files:
        sys.exit(f"{arguments.corpus} holds no .wav or .flac files")
    for name in arguments.names or BENCHMARKS:
        module = BENCHMARKS[name]
        print(f"\n== {name}: {module.__doc__.splitlines()[0]}")
        module.run(files)


main()
