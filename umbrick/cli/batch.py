"""``umbrick batch``: a regimen on a folder of recordings, resumable, with one report."""

from __future__ import annotations

import signal
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import click

from umbrick.cli.options import overwrite_option, quiet_option
from umbrick.cli.output import progress_bar, say, warn
from umbrick.core.errors import ParameterError
from umbrick.core.regimen.regimen import Regimen
from umbrick.core.units import format_count, parse_db
from umbrick.work.batch.cluster import run_on_cluster
from umbrick.work.batch.gathering import Item, gathered
from umbrick.work.batch.naming import AS_IT_IS, checked
from umbrick.work.batch.reports import write_report
from umbrick.work.batch.running import Outcome, Told, run_batch
from umbrick.work.batch.treating import FAILED, Order
from umbrick.work.batch.watching import arriving

_MOST_JOBS = 256
_Runner = Callable[[Sequence[Item], Order, Told, Callable[[], bool]], Outcome]


@click.command("batch")
@click.argument("sources", metavar="FOLDER|FILES…", nargs=-1, required=True, type=click.Path())
@click.option("--out", metavar="FOLDER", required=True, type=click.Path(), help="Where results and the report go.")
@click.option("--regimen", "regimen_path", metavar="FILE", required=True, type=click.Path(), help="What is done.")
@click.option("--jobs", metavar="N", type=click.IntRange(1, _MOST_JOBS), default=1, show_default=True,
              help="Files treated side by side.")  # fmt: skip
@click.option("--scheduler", metavar="ADDRESS", help="Hand the files to a running Dask cluster (umbrick[cluster]).")
@click.option(
    "--pattern", "patterns", metavar="GLOB", multiple=True, help="Only names like this, as *.wav; repeatable."
)
@click.option("--format", "suffix", metavar="ENDING", help="Write all results as .wav, .flac, …; else as the source.")
@click.option("--subtype", type=click.Choice(["same", "PCM_16", "PCM_24", "FLOAT"]), default="same", show_default=True,
              help="Sample format of the results.")  # fmt: skip
@click.option("--rate", metavar="HZ", type=click.IntRange(1000, 768000), help="Resample the results to this rate.")
@click.option("--name", metavar="PATTERN", default=AS_IT_IS, show_default=True,
              help="Names of the results; {name}, {folder} and {regimen} stand for the source's.")  # fmt: skip
@click.option("--ceiling", metavar="DBFS", help="Lower the level so that no sample passes this.")
@click.option("--casebooks", is_flag=True, help="Write a casebook beside each result, to look into and change.")
@click.option("--dry-run", is_flag=True, help="Only survey, and report.")
@click.option("--watch", is_flag=True, help="Go on with new files as they come, until stopped (Ctrl+C).")
@click.option("--report", "report_path", metavar="PATH", help="Where report.json goes; .html and .csv beside it.")
@overwrite_option
@quiet_option
def batch_command(
    sources: tuple[str, ...],
    out: str,
    regimen_path: str,
    jobs: int,
    scheduler: str | None,
    patterns: tuple[str, ...],
    suffix: str | None,
    subtype: str,
    rate: int | None,
    name: str,
    ceiling: str | None,
    casebooks: bool,
    dry_run: bool,
    watch: bool,
    report_path: str | None,
    overwrite: bool,
    quiet: bool,
) -> None:
    """Run a regimen on a folder or on files; run it again to go on where it stopped."""
    regimen = Regimen.load(Path(regimen_path))
    try:
        ceiling_dbfs = parse_db(ceiling) if ceiling is not None else None
        pattern = checked(name)
    except ParameterError as error:
        raise click.UsageError(str(error)) from error
    ending = f".{suffix.lstrip('.')}" if suffix else ""
    order = Order(
        out,
        regimen.document(),
        None if subtype == "same" else subtype,
        ceiling_dbfs,
        casebooks,
        dry_run,
        overwrite,
        ending,
        rate,
        pattern,
    )
    given, folder = [Path(source) for source in sources], Path(out)
    report = Path(report_path) if report_path else folder / "report.json"

    def run(items: Sequence[Item], order: Order, told: Told, is_stopped: Callable[[], bool]) -> Outcome:
        if scheduler is not None:
            return run_on_cluster(items, order, scheduler, told, is_stopped)
        return run_batch(items, order, jobs, told, is_stopped)

    with _stopping() as is_stopped:
        if watch:
            outcome = _watch(given, folder, patterns, order, run, quiet, is_stopped, report)
        else:
            items = gathered(given, folder, patterns)
            if not items:
                raise ParameterError(f"There is no recording in {', '.join(sources)}.", "Nothing was done.")
            outcome = _run(items, order, run, quiet, is_stopped)
            write_report(list(outcome.entries.values()), regimen.document(), report)
    _tell(outcome, report, quiet)
    if outcome.failures or outcome.is_full or (outcome.stopped and not watch):
        raise SystemExit(1)


def _run(items: Sequence[Item], order: Order, run: _Runner, quiet: bool, is_stopped: Callable[[], bool]) -> Outcome:
    count = 0
    with progress_bar(f"{len(items)} files", quiet) as progress:

        def told(item: Item, entry: dict[str, Any]) -> None:
            nonlocal count
            count += 1
            progress(min(1.0, count / len(items)))
            if entry["status"] == FAILED:
                warn(f"umbrick: {item.source}: {entry['reason']}")

        return run(items, order, told, is_stopped)


def _watch(
    given: Sequence[Path],
    folder: Path,
    patterns: Sequence[str],
    order: Order,
    run: _Runner,
    quiet: bool,
    is_stopped: Callable[[], bool],
    report: Path,
) -> Outcome:
    whole = Outcome()
    for items in arriving(given, folder, patterns, is_stopped):
        outcome = _run(items, order, run, quiet, is_stopped)
        whole.entries |= outcome.entries
        whole.again += outcome.again
        whole.is_full = outcome.is_full
        write_report(list(whole.entries.values()), order.regimen, report)
        if not quiet:
            say(f"{format_count(len(items), 'file')} taken; {format_count(len(whole.entries), 'file')} in all.")
        if outcome.is_full:
            break
    return whole


def _tell(outcome: Outcome, report: Path, quiet: bool) -> None:
    if outcome.is_full:
        warn("umbrick: The disk is full. Make room and run the same command again: what is done stays done.")
    elif outcome.stopped:
        warn("umbrick: stopped; run the same command again to go on.")
    if not quiet:
        say(f"{outcome.told} Report: {report}")


@contextmanager
def _stopping() -> Iterator[Callable[[], bool]]:
    """Have the first Ctrl+C finish what is in work; the second one ends at once."""
    asked = False

    def stop(number: int, frame: Any) -> None:
        nonlocal asked
        if asked:
            sys.exit(1)
        asked = True
        warn("umbrick: stopping when what is in work is done (Ctrl+C again: at once).")

    try:
        before = signal.signal(signal.SIGINT, stop)
    except ValueError:  # not in the main thread: nobody presses keys there
        yield lambda: False
        return
    try:
        yield lambda: asked
    finally:
        signal.signal(signal.SIGINT, before)
