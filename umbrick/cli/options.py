"""Options that several commands take, and how their values are read."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from umbrick.core.errors import ParameterError
from umbrick.core.names import KIND_NAMES, METHOD_NAMES

if TYPE_CHECKING:
    from umbrick.core.survey.detector import Kind


def _complete_kinds(context: click.Context, parameter: click.Parameter, incomplete: str) -> list[str]:
    begun, comma, last = incomplete.rpartition(",")
    return [f"{begun}{comma}{name}" for name in KIND_NAMES if name.startswith(last)]


def complete_methods(context: click.Context, parameter: click.Parameter, incomplete: str) -> list[str]:
    """Return the methods whose names begin so, for the shell."""
    return [name for name in METHOD_NAMES if name.startswith(incomplete)]


kinds_option = click.option(
    "--kinds",
    metavar="KIND[,KIND]",
    shell_complete=_complete_kinds,
    help=f"Only these kinds of finding. So far: {', '.join(KIND_NAMES)}.",
)
sensitivity_option = click.option(
    "--sensitivity",
    "sensitivities",
    metavar="KIND=0..1",
    multiple=True,
    help="0 lists only what is certain, 1 everything measured; 0.5 if not given. May be repeated.",
)
quiet_option = click.option("--quiet", is_flag=True, help="Say nothing but errors.")
track_option = click.option(
    "--track", metavar="N", type=click.IntRange(min=0), help="Which sound track of a video, from 0."
)
overwrite_option = click.option("--overwrite", is_flag=True, help="Replace files that exist already.")


def parse_kinds(text: str | None) -> list[Kind]:
    """Return the kinds named in ``--kinds``; UsageError for an unknown one."""
    from umbrick.core.survey.registry import kinds_named

    try:
        return kinds_named([name.strip() for name in text.split(",")] if text is not None else None)
    except ParameterError as error:
        raise click.UsageError(str(error)) from error


def parse_sensitivities(pairs: tuple[str, ...]) -> dict[str, float]:
    """Return what ``--sensitivity`` gives for each kind; UsageError if it is not KIND=0..1."""
    result = {}
    for pair in pairs:
        kind, _, text = pair.partition("=")
        try:
            value = float(text)
        except ValueError:
            value = -1.0
        if kind not in KIND_NAMES or not 0 <= value <= 1:
            raise click.UsageError(f"“{pair}” is not KIND=0..1; kinds so far: {', '.join(KIND_NAMES)}.")
        result[kind] = value
    return result


def parse_pairs(pairs: tuple[str, ...]) -> dict[str, str]:
    """Return what ``--set KEY=VALUE`` gives; UsageError without an equals sign."""
    result = {}
    for pair in pairs:
        key, equals, value = pair.partition("=")
        if not equals or not key:
            raise click.UsageError(f"“{pair}” is not KEY=VALUE.")
        result[key.strip()] = value.strip()
    return result
