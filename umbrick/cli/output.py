"""What the command line says, and how it fails: results on standard output, the rest on standard error."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import click

from umbrick.core.errors import FileError
from umbrick.core.fault_log import fault_named, note_fault, shows_details
from umbrick.core.plain_text import plain, plain_line


def say(text: str) -> None:
    """Write one line of result."""
    click.echo(plain(text))


def warn(text: str) -> None:
    """Write one line to standard error."""
    click.echo(plain(text), err=True)


def one_line(error: Exception) -> str:
    """Return an error as one line."""
    return plain_line(str(error))


@contextmanager
def progress_bar(label: str, quiet: bool) -> Iterator[Callable[[float], None]]:
    """Give a function that takes the share done, shown on standard error if that is a terminal."""
    if quiet or not sys.stderr.isatty():
        yield lambda _: None
        return
    with click.progressbar(length=1000, label=label, file=sys.stderr) as bar:
        yield lambda share: bar.update(round(share * 1000) - bar.pos)


def write_text(path: str, text: str, overwrite: bool) -> None:
    """Write a document to a file, or to standard output for ``-``; FileError if it exists or cannot be written."""
    if path == "-":
        click.echo(text.encode(errors="backslashreplace").decode(), nl=not text.endswith("\n"))
        return
    refuse_existing(path, overwrite)
    target = Path(path)
    if target.exists() and not target.is_file():
        # A pipe or a device takes the text as it is: there is nothing to replace.
        try:
            target.write_text(text, encoding="utf-8")
        except OSError as error:
            raise FileError(f"{target} cannot be written: {error.strerror}.") from error
        return
    from umbrick.core.sound.whole_file import write_whole  # needed only here, and slow to load

    write_whole(target, text.encode(errors="backslashreplace"), overwrite=True)


def refuse_existing(path: str, overwrite: bool) -> None:
    """Raise FileError if a document would replace another that may not be replaced."""
    target = Path(path)
    if path != "-" and target.is_file() and target.stat().st_size and not overwrite:
        raise FileError(f"{target.name} exists already.", "It was not touched; give --overwrite to replace it.")


def write_json(path: str, document: dict[str, Any], overwrite: bool) -> None:
    """Write a JSON document like :func:`write_text`."""
    write_text(path, json.dumps(document, ensure_ascii=False, indent=1, allow_nan=False) + "\n", overwrite)


def fault_told(error: Exception) -> str:
    """Write a fault of Umbrick's own in the log, and return what a person is told of it: one line, or all details."""
    details = note_fault(error)
    if shows_details():
        return details
    return f"an unexpected {fault_named(error)}; --debug shows more."
