"""The curves that can be drawn over the Passage: level, and how much of a step is done."""

from __future__ import annotations

from umbrick.core.units import format_db
from umbrick.ui.hand.levelling import Levelling
from umbrick.ui.hand.strengthening import Strengthening
from umbrick.ui.strips.curve_line import CurveLine, Scale
from umbrick.ui.strips.strip import Strip

_LEVEL = Scale(20.0, -40.0, 0.1, 0.0, "level curve, 0 dB", lambda gain_db: format_db(gain_db, "dB"))
_STRENGTH = Scale(1.06, -0.06, 0.01, 1.0, "all of the step, 100 %", lambda share: f"{100 * share:.0f} %")
"""A little more than from 0 to 1, so that a line at either can be seen and taken hold of."""


class LevelLine(CurveLine):
    """The level curve, in dB."""

    def __init__(self, strip: Strip, levelling: Levelling) -> None:
        super().__init__(strip, levelling, _LEVEL)


class StrengthLine(CurveLine):
    """How much of the chosen step is done, in percent."""

    def __init__(self, strip: Strip, strengthening: Strengthening) -> None:
        super().__init__(strip, strengthening, _STRENGTH)
