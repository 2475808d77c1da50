"""Which files a batch takes, and where each result goes: outputs keep the sub-folders and names of the sources."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

from umbrick.core.errors import ParameterError
from umbrick.core.sound.formats import READABLE_SUFFIXES


class Item(NamedTuple):
    """A source, and where its result goes below the output folder."""

    source: Path
    place: Path


def gathered(given: Sequence[Path], out: Path, patterns: Sequence[str] = ()) -> list[Item]:
    """Return what files and folders come to, in order.

    Of a folder these are all files below it whose ending is one of a recording's, or that match one of ``patterns``;
    what is hidden, or in the output folder, is left out. Files that are named are taken whatever they are called.

    Raises
    ------
    ParameterError
        If two of them would have the same place.
    """
    items: list[Item] = []
    for path in given:
        if path.is_dir():
            items += [Item(file, file.relative_to(path)) for file in _below(path, out, patterns)]
        else:
            items.append(Item(path, Path(path.name)))
    places: dict[Path, Path] = {}
    for item in items:
        if (other := places.setdefault(item.place, item.source)) != item.source:
            raise ParameterError(
                f"{other} and {item.source} would both become {item.place}.", "Give the folder above them instead."
            )
    return list(dict.fromkeys(items))


def _below(folder: Path, out: Path, patterns: Sequence[str]) -> Iterator[Path]:
    for parent, folders, files in os.walk(folder, onerror=None):
        here = Path(parent)
        folders[:] = sorted(name for name in folders if not name.startswith(".") and not _is_same(here / name, out))
        yield from (here / name for name in sorted(files) if _is_meant(name, patterns))


def _is_meant(name: str, patterns: Iterable[str]) -> bool:
    if name.startswith("."):
        return False
    given = list(patterns)
    path = Path(name)
    return any(path.match(pattern) for pattern in given) if given else path.suffix.lower() in READABLE_SUFFIXES


def _is_same(one: Path, other: Path) -> bool:
    try:
        return one.samefile(other)
    except OSError:
        return False
