"""Voices over lines that lose packets: real coders conceal what is lost, single packets or bursts."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import soxr

_AUDIBLE_DB = -12.0
_QUIETEST_DB = -30.0
_FARTHEST_SECONDS = 0.012
"""So late at most does what a packet holds come out of a decoder."""


class Loss(NamedTuple):
    """Frames that were concealed, of how many packets, and whether that is heard: what came differs clearly from what
    was sent, at a level that matters."""

    start: int
    stop: int
    packets: int
    is_audible: bool


class Line(NamedTuple):
    """What came over a line with and without the losses, as float64, its rate, and the losses."""

    lossy: np.ndarray
    whole: np.ndarray
    rate: int
    losses: list[Loss]


def over_a_line(sound, rate, coder, lost) -> Line:
    """Return what comes of a mono sound over a coder's line; ``lost`` tells by numbers of packets what does not."""
    wave = soxr.resample(sound, rate, coder.rate)
    wave = np.round(20000 * wave / np.abs(wave).max()).astype(np.int16)
    is_lost = np.zeros(len(wave) // coder.packet, bool)
    is_lost[[packet for packet in lost if packet < len(is_lost)]] = True
    whole = coder.through(wave, [False] * len(is_lost)) / 32768
    lossy = coder.through(wave, is_lost.tolist()) / 32768
    edges = np.flatnonzero(np.diff(is_lost, prepend=False, append=False)).tolist()
    losses = [_loss(whole, lossy, coder, first, last) for first, last in zip(edges[::2], edges[1::2], strict=True)]
    return Line(lossy, whole, coder.rate, losses)


def _loss(whole, lossy, coder, first, last):
    begin = first * coder.packet
    # Until then both are the same to the sample, or no more alike than after an earlier loss.
    reach = round(_FARTHEST_SECONDS * coder.rate)
    error = np.abs(lossy - whole)[begin : begin + reach]
    before = np.abs(lossy - whole)[max(0, begin - reach) : begin].max(initial=0.0)
    differs = np.flatnonzero(error > before + 1e-4)
    start = begin + (int(differs[0]) if len(differs) else 0)
    stop = min(len(whole), start + (last - first) * coder.packet)
    loud = np.sqrt(np.mean(np.sort(whole**2)[-len(whole) // 4 :]))
    sent, off = (np.sqrt(np.mean(part[start:stop] ** 2)) + 1e-9 for part in (whole, lossy - whole))
    is_audible = 20 * np.log10(off / sent) > _AUDIBLE_DB and 20 * np.log10(sent / loud) > _QUIETEST_DB
    return Loss(start, stop, last - first, bool(is_audible))


def single_losses(random, packets: int, seconds_a_packet: float, every_seconds: float = 0.7) -> list[int]:
    """Return single packets to lose, at random, about so far apart."""
    steps = random.uniform(0.6, 1.4, packets) * every_seconds / seconds_a_packet
    return [int(at) for at in np.cumsum(steps) if at < packets]


def bursts(random, packets: int, seconds_a_packet: float, every_seconds: float = 1.2) -> list[int]:
    """Return bursts of 40 to 200 ms to lose, at random, about so far apart."""
    lost: list[int] = []
    for first in single_losses(random, packets, seconds_a_packet, every_seconds):
        lost += range(first, first + round(random.uniform(0.04, 0.2) / seconds_a_packet))
    return lost
