"""A regimen: which methods are applied where, read from its JSON (schema ``umbrick.regimen/1``) and checked."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from umbrick.core.course.treatment import Treatment
from umbrick.core.errors import FileError, ParameterError
from umbrick.core.mend.method import Method
from umbrick.core.mend.parameters import Parameters
from umbrick.core.mend.registry import method_named
from umbrick.core.names import KIND_NAMES

SCHEMA = "umbrick.regimen/1"
ALL, PAUSES = "all", "pauses"
_FINDINGS, _SPANS = "findings:", "spans:"
_MOST_STEPS, _LARGEST_BYTES = 1000, 4 * 2**20


@dataclass(frozen=True)
class Where:
    """Where a step is done: one of ``all``, ``pauses``, the findings of ``kinds``, or ``spans`` of frames."""

    text: str = ALL
    kinds: tuple[str, ...] = ()
    spans: tuple[tuple[int, int], ...] = ()

    @classmethod
    def parsed(cls, text: str) -> Where:
        """Return what a text means.

        Raises
        ------
        ParameterError
            If it means nothing.
        """
        bare = text.strip()
        if bare in (ALL, PAUSES):
            return cls(bare)
        if bare.startswith(_FINDINGS):
            kinds = tuple(kind.strip() for kind in bare.removeprefix(_FINDINGS).split(","))
            if unknown := [kind for kind in kinds if kind not in KIND_NAMES]:
                raise ParameterError(f"There is no kind of finding “{unknown[0][:40]}”.", "See umbrick survey --help.")
            return cls(bare, kinds)
        if bare.startswith(_SPANS):
            try:
                held = json.loads(bare.removeprefix(_SPANS))
                spans = tuple((int(start), int(stop)) for start, stop in held)
            except (ValueError, TypeError) as error:
                raise ParameterError(f"“{bare[:60]}” is not spans:[[start,end],…] in frames.") from error
            if not spans or not all(0 <= start < stop for start, stop in spans):
                raise ParameterError(f"“{bare[:60]}” names no span that begins before it ends.")
            return cls(bare, spans=tuple(sorted(spans)))
        raise ParameterError(
            f"“{bare[:60]}” does not say where.", "Use all, pauses, findings:KIND[,KIND] or spans:[[start,end],…]."
        )


@dataclass(frozen=True)
class Step:
    """One method with its settings, and where it is done; switched off, it is left out."""

    method: Method
    where: Where
    settings: Parameters = field(default_factory=dict)
    is_on: bool = True

    @property
    def is_broad(self) -> bool:
        """Whether it becomes a step of the course."""
        return isinstance(self.method.does, Treatment)


@dataclass(frozen=True)
class Regimen:
    """Steps in the order in which they are done: the mends first, then the course.

    ``sensitivity`` is the survey's for kinds of finding; findings that are less sure than ``least_confidence`` are left
    for a person.
    """

    name: str
    steps: tuple[Step, ...]
    sensitivity: Mapping[str, float] = field(default_factory=dict)
    least_confidence: float = 0.75

    @property
    def mends(self) -> tuple[Step, ...]:
        """The steps that mend places."""
        return tuple(step for step in self.steps if step.is_on and not step.is_broad)

    @property
    def course(self) -> tuple[Step, ...]:
        """The broad treatments."""
        return tuple(step for step in self.steps if step.is_on and step.is_broad)

    @classmethod
    def parsed(cls, document: Any) -> Regimen:
        """Return the regimen of a document of plain JSON values.

        Raises
        ------
        ParameterError
            If it is none; the message says which step is wrong, and why.
        """
        if not isinstance(document, dict) or document.get("schema") != SCHEMA:
            raise ParameterError(f"This is not a regimen: its schema is not {SCHEMA}.")
        steps = document.get("steps")
        if not isinstance(steps, list) or len(steps) > _MOST_STEPS:
            raise ParameterError("A regimen needs a list of steps.")
        survey = document.get("survey") or {}
        if not isinstance(survey, dict):
            raise ParameterError("The survey's settings of a regimen are sensitivity and least_confidence.")
        return cls(
            str(document.get("name") or "Regimen")[:200],
            tuple(_step(number, entry) for number, entry in enumerate(steps, 1)),
            _sensitivity(survey.get("sensitivity") or {}),
            _share(survey.get("least_confidence", 0.75), "least_confidence"),
        )

    @classmethod
    def load(cls, path: Path) -> Regimen:
        """Return the regimen in a file.

        Raises
        ------
        FileError
            If the file cannot be read.
        ParameterError
            If it holds no regimen.
        """
        try:
            if path.stat().st_size > _LARGEST_BYTES:
                raise FileError(f"{path.name} is too large to be a regimen.")
            text = path.read_text("utf-8")
        except OSError as error:
            raise FileError(f"The regimen {path} cannot be read: {error.strerror}.") from error
        except UnicodeDecodeError as error:
            raise FileError(f"{path.name} is not a regimen: it is not text.") from error
        try:
            return cls.parsed(json.loads(text))
        except (json.JSONDecodeError, RecursionError) as error:
            raise ParameterError(f"{path.name} is not a regimen: it is not JSON.") from error
        except ParameterError as error:
            raise ParameterError(f"{path.name}: {error.message}", error.hint) from error

    def document(self) -> dict[str, Any]:
        """Return it as plain JSON values."""
        return {
            "schema": SCHEMA,
            "name": self.name,
            "survey": {"sensitivity": dict(self.sensitivity), "least_confidence": self.least_confidence},
            "steps": [
                {"method": step.method.name, "where": step.where.text, "set": dict(step.settings), "is_on": step.is_on}
                for step in self.steps
            ],
        }


def _step(number: int, entry: Any) -> Step:
    try:
        if not isinstance(entry, dict) or not isinstance(entry.get("method"), str):
            raise ParameterError("It names no method.")
        method = method_named(entry["method"])
        given = entry.get("set") or {}
        if not isinstance(given, dict):
            raise ParameterError("Its settings are not names and values.")
        return Step(
            method, Where.parsed(str(entry.get("where", ALL))), method.checked(given), bool(entry.get("is_on", True))
        )
    except ParameterError as error:
        raise ParameterError(f"Step {number} of the regimen: {error.message}", error.hint) from error


def _sensitivity(given: Any) -> dict[str, float]:
    if not isinstance(given, dict):
        raise ParameterError("Sensitivity is a number from 0 to 1 for each kind of finding.")
    if unknown := [kind for kind in given if kind not in KIND_NAMES]:
        raise ParameterError(f"There is no kind of finding “{str(unknown[0])[:40]}”.")
    return {kind: _share(value, kind) for kind, value in given.items()}


def _share(value: Any, name: str) -> float:
    if isinstance(value, bool) or not isinstance(value, int | float) or not 0 <= value <= 1:
        raise ParameterError(f"{name} is a number from 0 to 1.")
    return float(value)
