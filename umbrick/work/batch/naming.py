"""What the results of a batch are called: by a pattern, in which the source's own name has its place."""

from __future__ import annotations

import string
from collections.abc import Iterable
from pathlib import Path

from umbrick.core.errors import ParameterError

AS_IT_IS = "{name}"
FIELDS = ("name", "folder", "regimen")


def checked(pattern: str) -> str:
    """Return a pattern for names; ParameterError if it cannot be one.

    ``{name}`` stands for the source's name without its ending, ``{folder}`` for the name of the folder that it is in,
    ``{regimen}`` for that of the regimen.
    """
    try:
        fields = {field for _, field, _, _ in string.Formatter().parse(pattern) if field is not None}
        pattern.format(**dict.fromkeys(FIELDS, "a"))
    except (ValueError, KeyError, IndexError, AttributeError) as error:
        known = ", ".join(f"{{{field}}}" for field in FIELDS)
        raise ParameterError(f"“{pattern}” is no pattern for names.", f"It may hold {known}.") from error
    if "name" not in fields:
        raise ParameterError(f"“{pattern}” would give all results one name.", "Put {name} where the source's goes.")
    if "/" in pattern or "\0" in pattern:
        raise ParameterError(f"“{pattern}” is no name of a file.", "The folders are those of the sources.")
    return pattern


def named(place: Path, source: Path, pattern: str, regimen: str, ending: str) -> Path:
    """Return a place with the name that a pattern gives it, and another ending if there is one."""
    fields = {"name": place.stem, "folder": source.absolute().parent.name, "regimen": regimen.replace("/", "-")}
    return place.with_name(pattern.format(**fields) + (ending or place.suffix))


def refuse_clashes(targets: Iterable[tuple[Path, Path]]) -> None:
    """Refuse sources, each with its result's path, of which two would become one file."""
    known: dict[Path, Path] = {}
    for source, target in targets:
        if (other := known.setdefault(target, source)) != source:
            raise ParameterError(
                f"{other.name} and {source.name} would both become {target.name}.",
                "Leave their endings as they are, or do one after the other with names of their own.",
            )
