"""Impulses, and where they are taken to begin and end."""

from __future__ import annotations

import numpy as np
import pytest

from umbrick.core.survey.detector import Block
from umbrick.core.survey.impulses.impulse_sorting import events

_RATE = 8000
_FRAMES = 2000


@pytest.mark.parametrize("at_the_end", [False, True])
def test_no_impulse_reaches_beyond_the_recording(at_the_end: bool) -> None:
    reaching = 0
    for seed in range(60):
        random = np.random.default_rng(seed)
        sound = 0.02 * random.standard_normal(_FRAMES)
        length = int(random.integers(6, 24))
        sound[:length] += 0.7 * random.standard_normal(length)
        sound = (sound[::-1] if at_the_end else sound).astype(np.float32)
        found = events(Block(0, _FRAMES, sound[:, np.newaxis], 0, _RATE))
        assert all(0 <= event.start < event.stop <= _FRAMES for event in found)
        reaching += sum(event.start == 0 or event.stop == _FRAMES for event in found)
    assert reaching, "none of them was even near the end"
