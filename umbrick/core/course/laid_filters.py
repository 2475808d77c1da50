"""Some filters laid over blocks of a recording: their kernel is worked out once."""

from __future__ import annotations

from functools import lru_cache

from umbrick.core.course.treatment import Block
from umbrick.core.filters.shapes import Point, response
from umbrick.core.filters.zero_phase import Wave, convolved, kernel_frames, kernel_of, spectrum_for

Points = tuple[Point, ...]


def filtered_by(points: Points, block: Block) -> Wave:
    """Return a block convolved with the symmetric kernel of the filters' magnitudes."""
    return convolved(block.samples, _spectrum(points, block.rate, len(block.samples)), block.before)


@lru_cache(maxsize=64)
def reach_of(points: Points, rate: int) -> int:
    """Return how many frames on either side filters need: as long as they ring; none if there are none."""
    return max((kernel_frames(point.sections(rate)) for point in points), default=0)


@lru_cache(maxsize=8)
def _spectrum(points: Points, rate: int, frames: int) -> Wave:
    reach = reach_of(points, rate)
    # Twice as fine as the kernel is long: what would fold back into it has died away.
    return spectrum_for(kernel_of(response(points, rate, 2 * reach + 1), reach), frames)
