"""The colours of spectrograms: from paper to ink, lightness falling steadily with level."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import numpy.typing as npt

from umbrick.core.view.spectrogram import LOWEST_DB, STEP_DB, Levels
from umbrick.ui.bench.spectral_view import Wash
from umbrick.ui.theme import Theme

Pixels = npt.NDArray[np.uint32]


_STOPS = {
    (Wash.INK, "daylight"): ("#F6F1E7", "#E6D3B3", "#C79A63", "#8A5A36", "#4A2E20", "#17110D"),
    (Wash.INK, "dusk"): ("#211C18", "#3E2E22", "#6E4B2F", "#AE7C4B", "#DDB98A", "#FAF1E0"),
    (Wash.BLUE, "daylight"): ("#F6F1E7", "#CFDCE0", "#8FB6CC", "#4A86B4", "#1F4F86", "#08203F"),
    (Wash.BLUE, "dusk"): ("#1B1D22", "#15324F", "#1F5B8C", "#4C92BE", "#97C6DA", "#F2F5EF"),
}
_PLACES = (0.0, 0.18, 0.42, 0.64, 0.84, 1.0)


@lru_cache(maxsize=32)
def inks(theme: Theme, wash: Wash, floor_db: float, ceiling_db: float) -> Pixels:
    """Return the colour of each level as it is kept, shape ``(256,)``."""
    levels_db = LOWEST_DB + STEP_DB * np.arange(256)
    share = np.clip((levels_db - floor_db) / (ceiling_db - floor_db), 0, 1)
    stops = np.array([[int(color[i : i + 2], 16) for i in (1, 3, 5)] for color in _STOPS[wash, theme.name]])
    red, green, blue = (np.rint(np.interp(share, _PLACES, stops[:, part])).astype(np.uint32) for part in range(3))
    return np.asarray(np.uint32(0xFF000000) | red << np.uint32(16) | green << np.uint32(8) | blue)


def spectrogram_pixels(levels: Levels, theme: Theme, wash: Wash, floor_db: float, ceiling_db: float) -> Pixels:
    """Return levels as pixels, shape ``(rows, columns)``."""
    return inks(theme, wash, floor_db, ceiling_db)[levels]
