"""Hiss: steady noise under all of a recording, heard wherever nothing else sounds."""

from __future__ import annotations

import numpy as np

from umbrick.core.survey.detector import Block, Format, Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.levels.fine_bands import EDGES_HZ
from umbrick.core.survey.levels.grain import grain
from umbrick.core.survey.levels.noise_floor import Floats, bands_text, floor_frames, noise_floor
from umbrick.core.units import format_db

_NOISY_BANDS = slice(3, 6)
_HALF_SURE_RATIO_DB = 40.0
_HALF_SURE_LINGERING = 0.10
_QUIETEST_PERCENTILE, _NOISE_LIKE, _MOST_IF_LINES, _SILENT = 15, 0.45, 0.3, 1e-12
"""What lies between the lines of tones that never cease is no noise, if it is none where it is quietest either."""


class HissDetector:
    """Collects bands in frames of 43 ms; weighs the floor against the level of the loud passages."""

    def __init__(self, form: Format) -> None:
        self._format = form
        self._frames: list[Floats] = []
        self._grain: list[Floats] = []
        self._length = 0

    def feed(self, block: Block) -> None:
        """Collect a block's frames."""
        self._frames.append(block.shared(floor_frames))
        self._grain.append(block.shared(grain))
        self._length = block.stop

    def findings(self) -> list[Finding]:
        """Return one finding that spans the recording, or none."""
        floor = noise_floor(np.concatenate(self._frames)) if self._frames else None
        if floor is None:
            return []
        bands = floor.levels_db[_NOISY_BANDS]
        present = bands > -138
        if not present.any():
            return []
        # Where a tone holds on too, its band is denser than the noise in the others.
        widths = np.diff(EDGES_HZ)[_NOISY_BANDS][present]
        level_db = float(np.median(bands[present] - 10 * np.log10(widths)) + 10 * np.log10(widths.sum()))
        ratio_db = floor.loud_db - level_db
        lingering = float(np.median(floor.lingering[_NOISY_BANDS][present]))
        doubt = (_HALF_SURE_RATIO_DB - ratio_db) / 2.5
        steady = (lingering - _HALF_SURE_LINGERING) / 0.02
        confidence = float(1 / (1 + np.exp(-doubt)) / (1 + np.exp(-steady)))
        if self._is_made_of_lines():
            confidence = min(confidence, _MOST_IF_LINES)
        if confidence < 0.05:
            return []
        return [
            Finding(
                id="",
                kind="hiss",
                start=0,
                stop=self._length,
                channels=tuple(range(self._format.channels)),
                severity=round(float(np.clip((60 - ratio_db) / 50, 0, 1)), 3),
                confidence=round(confidence, 3),
                evidence=f"steady noise at {format_db(level_db)}, {ratio_db:.0f} dB under the loud passages",
                detail={
                    "level_dbfs": round(level_db, 1),
                    "ratio_db": round(ratio_db, 1),
                    "bands_dbfs": dict(zip(bands_text(), np.round(floor.levels_db, 1).tolist(), strict=True)),
                },
            )
        ]

    def _is_made_of_lines(self) -> bool:
        power, noise_like = np.concatenate(self._grain).T
        sounding = power > _SILENT
        if not sounding.any():
            return False
        quiet = sounding & (power <= np.percentile(power[sounding], _QUIETEST_PERCENTILE))
        return bool(np.median(noise_like[quiet]) < _NOISE_LIKE)


KIND = Kind(
    name="hiss",
    title="Hiss",
    family=Family.BACKGROUND,
    summary="steady noise under all of it",
    make=HissDetector,
    needs=(floor_frames, grain),
    of_outcome=True,
)
