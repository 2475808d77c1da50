"""Making before and after equally loud, so that the louder one does not just seem better."""

from __future__ import annotations

from umbrick.core.measure.loudness import LoudnessMeter
from umbrick.core.sound.source import Source
from umbrick.core.timeline.positions import map_positions
from umbrick.core.timeline.version import Version
from umbrick.core.units import SILENCE_DBFS

_BLOCK_FRAMES = 2**17


def matching_trims_db(before: Version, after: Version, start: int, stop: int) -> tuple[float, float]:
    """Return the level changes, in dB and never upwards, that make the same span of two versions equally loud.

    The span is one of ``after``; in ``before`` it is taken where the same sound is. Loudness is integrated over it
    (ITU-R BS.1770); silence gives no change.
    """
    stop = min(stop, after.frames)
    first = _loudness_lufs(before, *map_positions(after, before, [min(start, stop), stop]).tolist())
    second = _loudness_lufs(after, start, stop)
    if SILENCE_DBFS in (first, second):
        return 0.0, 0.0
    return min(0.0, second - first), min(0.0, first - second)


def _loudness_lufs(version: Source, start: int, stop: int) -> float:
    meter = LoudnessMeter(version.rate, version.channels)
    for position in range(start, stop, _BLOCK_FRAMES):
        meter.feed(version.read(position, min(position + _BLOCK_FRAMES, stop)))
    return meter.integrated_lufs()
