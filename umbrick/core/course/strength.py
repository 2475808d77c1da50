"""How much of a step is done along time: a line through nodes, straight between them."""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterable

import numpy as np
import numpy.typing as npt

from umbrick.core.course.step import Spans, merged
from umbrick.core.errors import ParameterError

Wave = npt.NDArray[np.float64]
Nodes = tuple[tuple[int, float], ...]
"""Frames in order, no two alike, and the share that is done there, from 0 to 1. Before the first and after the last,
theirs goes on; without any, all is done."""

_NODE = re.compile(r"(\d{1,12}):(\d{1,3}(?:\.\d{1,6})?)")
_MOST_NODES = 4096


def parsed_strength(text: str) -> Nodes:
    """Return the nodes written as ``FRAME:PERCENT …``; ParameterError if they are not written so, or out of range."""
    matches = [_NODE.fullmatch(word) for word in text.split()]
    shares = [(int(match[1]), float(match[2]) / 100) for match in matches if match]
    if len(shares) < len(matches) or any(share > 1 for _, share in shares):
        raise ParameterError(f"“{text[:40]}” is no line of strengths.", "Write nodes as FRAME:PERCENT: 0:100 48000:0.")
    if len(shares) > _MOST_NODES:
        raise ParameterError(f"A line of strengths has up to {_MOST_NODES} nodes.")
    return strength_of(shares)


def strength_of(nodes: Iterable[tuple[int, float]]) -> Nodes:
    """Return nodes in order; of several on one frame the last counts."""
    by_frame = {frame: min(max(share, 0.0), 1.0) for frame, share in nodes}
    return tuple(sorted(by_frame.items()))


def strength_text(nodes: Nodes) -> str:
    """Return nodes as :func:`parsed_strength` reads them."""
    return " ".join(f"{frame}:{round(100 * share, 2):g}" for frame, share in nodes)


def shares_at(nodes: Nodes, frames: npt.ArrayLike) -> Wave:
    """Return how much is done at frames, from 0 to 1."""
    if not nodes:
        return np.ones(np.shape(frames))
    at, shares = zip(*nodes, strict=True)
    return np.asarray(np.interp(np.asarray(frames, np.float64), at, shares))


def idle_spans(nodes: Nodes, frames: int) -> Spans:
    """Return where nothing is done in a recording of so many frames."""
    if not nodes:
        return ()
    line = [(0, nodes[0][1]), *nodes, (frames, nodes[-1][1])]
    pairs = itertools.pairwise(line)
    return merged((start, stop) for (start, one), (stop, other) in pairs if one == other == 0)


def told_near(nodes: Nodes, first: int, last: int) -> list[tuple[int, float]]:
    """Return all of a line that matters to a span: what it is at both ends, and the nodes between."""
    if not nodes:
        return []
    ends = [(at, float(shares_at(nodes, at))) for at in (first, last)]
    return [*ends, *(node for node in nodes if first < node[0] < last)]
