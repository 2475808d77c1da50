"""Small pictures for the page: before and after as lines, provenance as a bar. SVG, so that they need no other file."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from umbrick.core.sound.source import Source
from umbrick.core.timeline.patch import Nature
from umbrick.core.timeline.positions import map_position
from umbrick.core.timeline.provenance import provenance
from umbrick.core.timeline.version import Version

WIDTH, HEIGHT = 220, 56
_MARGIN_FRAMES = 14
_MOST_POINTS = 240
_BAR_WIDTH, _BAR_HEIGHT = 900, 14


def before_and_after(original: Version, version: Version, start: int, stop: int, channel: int) -> str:
    """Return a picture of a span of a version, and of the same place in the original behind it."""
    first, last = max(0, start - _MARGIN_FRAMES), min(version.frames, stop + _MARGIN_FRAMES)
    own_first, own_last = (map_position(version, original, frame) for frame in (first, last))
    before, after = _line(original, own_first, own_last, channel), _line(version, first, last, channel)
    both = np.concatenate([before[1], after[1]])
    low, high = (float(both.min()), float(both.max())) if len(both) else (-1.0, 1.0)
    span = max(high - low, 1e-6)

    def points(line: tuple[npt.NDArray[np.float64], npt.NDArray[np.float64]]) -> str:
        x = 2 + line[0] * (WIDTH - 4)
        y = 3 + (high - line[1]) * (HEIGHT - 6) / span
        return " ".join(f"{a:.1f},{b:.1f}" for a, b in zip(x.tolist(), y.tolist(), strict=True))

    zero = 3 + high * (HEIGHT - 6) / span
    axis = f'<line class="zero" x1="0" x2="{WIDTH}" y1="{zero:.1f}" y2="{zero:.1f}"/>' if 0 < zero < HEIGHT else ""
    return (
        f'<svg viewBox="0 0 {WIDTH} {HEIGHT}" width="{WIDTH}" height="{HEIGHT}" role="img" '
        f'aria-label="before and after">{axis}<polyline class="before" points="{points(before)}"/>'
        f'<polyline class="after" points="{points(after)}"/></svg>'
    )


def provenance_bar(version: Version, original: Version) -> str:
    """Return where the samples of a whole version come from, as a bar."""
    found = provenance(version, original)
    scale = _BAR_WIDTH / max(1, version.frames)
    parts = [f'<rect class="original" width="{_BAR_WIDTH}" height="{_BAR_HEIGHT}"/>']
    for nature in Nature:
        if nature is Nature.ORIGINAL:
            continue
        spans = found.spans(nature) * scale
        # What lies within one pixel is drawn once.
        pixels = np.unique(np.floor(spans[:, 0])) if len(spans) else np.zeros(0)
        for x in pixels.tolist():
            inside = np.floor(spans[:, 0]) == x
            width = max(1.0, float((spans[inside, 1]).max() - x))
            parts.append(f'<rect class="{nature.value}" x="{x:.0f}" width="{width:.1f}" height="{_BAR_HEIGHT}"/>')
    cuts = np.unique(np.floor(found.deleted * scale)).tolist()
    parts += [f'<rect class="deleted" x="{at:.0f}" width="1" height="{_BAR_HEIGHT}"/>' for at in cuts]
    return (
        f'<svg class="bar" viewBox="0 0 {_BAR_WIDTH} {_BAR_HEIGHT}" width="100%" height="{_BAR_HEIGHT}" '
        f'preserveAspectRatio="none" role="img" aria-label="provenance">{"".join(parts)}</svg>'
    )


def _line(
    source: Source, start: int, stop: int, channel: int
) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.float64]]:
    """Return a wave as points, x from 0 to 1; long spans as their lowest and highest samples in turn."""
    if stop <= start:
        return np.zeros(0), np.zeros(0)
    step = max(1, (stop - start) // (_MOST_POINTS // 2))
    if step == 1:
        wave = source.read(start, stop)[:, channel].astype(np.float64)
        return np.linspace(0, 1, len(wave)), wave
    values = []
    for begin in range(start, stop, step):
        part = source.read(begin, min(begin + step, stop))[:, channel]
        values += [float(part.min()), float(part.max())]
    return np.linspace(0, 1, len(values)), np.array(values)
