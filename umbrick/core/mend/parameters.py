"""The settings of a method: what they may be, and how they read."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Literal

import numpy as np

from umbrick.core.errors import ParameterError

Value = float | str
Parameters = Mapping[str, Value]


@dataclass(frozen=True, slots=True)
class Parameter:
    """One setting of a method.

    A ``choice`` takes one of ``choices``; a ``number`` lies from ``low`` to ``high`` in ``unit``, and may also be one
    of ``choices`` (such as ``auto``); a ``text`` is whatever ``check`` does not raise a ParameterError for, and so is a
    ``curve``, whose words are points. A ``band`` is ``LOW-HIGH`` in ``unit``, or nothing for all there is.
    """

    name: str
    kind: Literal["choice", "number", "text", "curve", "band"]
    default: Value
    summary: str
    choices: tuple[str, ...] = ()
    unit: str = ""
    low: float | None = None
    high: float | None = None
    check: Callable[[str], object] = str

    def parsed(self, value: Value) -> Value:
        """Return a typed or given value as the method takes it.

        Raises
        ------
        ParameterError
            If it is not among the choices, not a number, or out of range.
        """
        text = str(value).strip()
        if text in self.choices:
            return text
        if self.kind in ("text", "curve"):
            self.check(text)
            return text
        if self.kind == "band":
            band_of(text)
            return text
        if self.kind == "choice":
            raise ParameterError(f"{self.name} is one of {', '.join(self.choices)}, not “{text}”.")
        try:
            number = float(text.replace("−", "-").replace(",", ".").removesuffix(self.unit).strip())
        except ValueError:
            number = float("nan")
        low = -np.inf if self.low is None else self.low
        high = np.inf if self.high is None else self.high
        if not low <= number <= high:
            also = f", or {' or '.join(self.choices)}" if self.choices else ""
            raise ParameterError(f"{self.name} is a number from {low:g} to {high:g} {self.unit}{also}, not “{text}”.")
        return number

    def told(self, value: Value) -> str:
        """Return a value in words, such as ``crossfade 2 ms``."""
        words = self.label.lower()
        if isinstance(value, str):
            return f"{words} {value}"
        return f"{words} {value:g} {self.unit}".strip().replace("-", "−")

    @property
    def label(self) -> str:
        """Its name for a person, such as ``Crossfade``."""
        return self.name.removesuffix(f"_{self.unit.lower()}").replace("_", " ").capitalize()


def band_of(text: str) -> tuple[float, float] | None:
    """Return the ends of a band written as ``LOW-HIGH``; None for all there is, where nothing is written.

    ParameterError if it is not written so.
    """
    if not text:
        return None
    low, _, high = text.replace("Hz", "").partition("-")
    try:
        band = float(low), float(high)
    except ValueError:
        band = np.nan, np.nan
    if not 0 <= band[0] < band[1] < np.inf:
        raise ParameterError(f"“{text}” is no band.", "Write LOW-HIGH in Hz, such as 2000-8000.")
    return band
