"""Lost packets as a line conceals them: the last cycles go round and fade, and what comes then does not fit.

A concealed packet is not silent and does not repeat exactly; a network hears it (see :mod:`line_network`). A line that
lost one packet has lost more: where some are sure, others are believed that would be doubtful alone.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.survey.detector import Block, Format
from umbrick.core.survey.levels.fine_bands import hop_frames
from umbrick.core.survey.packets.line_features import BANDS, line_features
from umbrick.core.survey.packets.line_network import CONTEXT_HOPS, SILENCE, log_odds

Floats = npt.NDArray[np.float32]

_BEGINS, _FELLOWS = -1.0, 4
"""An event is a run of hops above these log odds; it is judged by so many of its strongest."""

_HALF_SURE, _HALF_SURE_IN_COMPANY = 5.0, 0.0
_LEAST_COMPANY, _LEAST_A_MINUTE = 2, 2.0
_EDGE = 0.0
_SHORTEST_SECONDS, _LONGEST_SECONDS = 0.01, 0.5
_QUIETER_BEL = 3.5
"""What lies 35 dB and more below the loud passages is not heard."""

_FEWEST_HEARD, _HEARD_BEL = 3, 4.0
"""A line that conceals makes sound for a while; where it ends at once, a gate has closed."""

_LOUD_PERCENTILE = 95


class Concealed(NamedTuple):
    """Frames that were made up, and how sure that is, from 0 to 1."""

    start: int
    stop: int
    confidence: float


class ConcealedPackets:
    """Listens block by block for packets that were concealed."""

    def __init__(self, form: Format) -> None:
        self._format = form
        self._hop = hop_frames(form.rate)
        self._waiting: Floats = np.tile(SILENCE, (CONTEXT_HOPS, 1))
        self._odds: list[npt.NDArray[np.float16]] = []
        self._levels: list[npt.NDArray[np.float16]] = []

    def feed(self, block: Block) -> None:
        """Listen to a block; of its end no more can be said than what follows tells."""
        features = block.shared(line_features)
        self._levels.append(features[:, BANDS].astype(np.float16))
        self._waiting = np.concatenate([self._waiting, features])
        if len(self._waiting) > 2 * CONTEXT_HOPS:
            self._odds.append(log_odds(self._waiting).astype(np.float16))
            self._waiting = self._waiting[-2 * CONTEXT_HOPS :].copy()

    def found(self) -> list[Concealed]:
        """Return what was concealed so far, in order of time."""
        if not self._levels:
            return []
        rest = np.concatenate([self._waiting, np.tile(SILENCE, (CONTEXT_HOPS, 1))])
        odds = np.concatenate([*self._odds, log_odds(rest)]).astype(np.float32)
        levels = np.concatenate(self._levels).astype(np.float32)
        events = list(self._events(odds, levels))
        sure = sum(strength >= _HALF_SURE for _, _, strength in events)
        minutes = len(odds) * self._hop / self._format.rate / 60
        in_company = sure >= max(_LEAST_COMPANY, _LEAST_A_MINUTE * minutes)
        half_sure = _HALF_SURE_IN_COMPANY if in_company else _HALF_SURE
        return [
            Concealed(start * self._hop, stop * self._hop, float(1 / (1 + np.exp(half_sure - strength))))
            for start, stop, strength in events
        ]

    def _events(self, odds: Floats, levels: Floats) -> list[tuple[int, int, float]]:
        """Return the first hop and that after the last of each event, and its strength as log odds."""
        edges = np.flatnonzero(np.diff(odds > _BEGINS, prepend=False, append=False))
        loud = float(np.percentile(levels, _LOUD_PERCENTILE))
        shortest, longest = (
            seconds * self._format.rate / self._hop for seconds in (_SHORTEST_SECONDS, _LONGEST_SECONDS)
        )
        events = []
        for begin, end in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
            inside = np.flatnonzero(odds[begin:end] > _EDGE) + begin
            beside = levels[max(0, begin - 4) : end + 4]
            if not len(inside) or beside.max() < loud - _QUIETER_BEL:
                continue
            first, last = int(inside[0]), int(inside[-1]) + 1
            is_heard = levels[first:last] > loud - _HEARD_BEL
            if not shortest <= last - first <= longest or is_heard.sum() < _FEWEST_HEARD:
                continue
            strength = float(np.sort(odds[begin:end])[-_FELLOWS:].mean())
            events.append((first, last, strength))
        return events
