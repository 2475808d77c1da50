"""Whether a recording may be a voice: it has pauses, as held and resounding music has not."""

from __future__ import annotations

import numpy as np

from umbrick.core.survey.levels.outline import Outline, levels_of, loud_db

_DEPTH_DB = 24.0
_LEAST_SHARE = 0.11


def may_be_voice(outlines: list[Outline]) -> bool:
    """Whether more than a ninth of a recording lies 24 dB below its loud segments."""
    levels_db = levels_of(outlines)
    return bool(len(levels_db) and np.mean(levels_db < loud_db(levels_db) - _DEPTH_DB) >= _LEAST_SHARE)
