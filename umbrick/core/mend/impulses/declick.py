"""Declicking: finds how far the damage of a click truly reaches, and rebuilds that from what is on both sides."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from umbrick.core.errors import CancelledError
from umbrick.core.mend.method import Excerpt, Method, Rebuilding
from umbrick.core.mend.parameters import Parameter, Parameters
from umbrick.core.model.bounds import Mask, Wave, spans_in
from umbrick.core.model.damage_extent import SWEEPS, Extent, context_of, extent, order_for
from umbrick.core.model.interpolation import bridged_over, interpolated
from umbrick.core.model.worth import expected_gain_db
from umbrick.core.sound.source import ArraySource
from umbrick.core.survey.detector import Format
from umbrick.core.survey.kinds.click import ClickDetector
from umbrick.core.survey.streaming import blocks

LONGEST_EVENT_SECONDS = 0.02
"""A place up to this long is one event; in a longer one, clicks are looked for."""

_LEAST_GAIN_DB = 7.0
"""What takes out less over what it is itself likely to be off by leaves the sound as it is."""

REACH_SECONDS = 0.004
"""How far outside of a place its click's damage is followed."""


def rebuild(
    excerpt: Excerpt, parameters: Parameters, is_cancelled: Callable[[], bool] = lambda: False
) -> npt.NDArray[np.float64]:
    """Return the excerpt with its clicks rebuilt.

    Parameters
    ----------
    excerpt : Excerpt
        Each run of ``target`` up to 20 ms long is one event; in longer ones clicks are looked for. Channels are
        rebuilt one by one.
    parameters : Parameters
        ``extent``: ``auto`` finds where the damage begins and ends, up to 4 ms outside of the target; ``as_found``
        rebuilds just the target. ``sensitivity`` (0 to 1): how sure a click that is looked for must be.
        ``max_length_ms``: longer damage is left alone.
    is_cancelled : callable
        CancelledError is raised soon after it says so.
    """
    samples = excerpt.samples.astype(np.float64)
    finds_extent = parameters.get("extent", "auto") == "auto"
    longest = max(1, round(float(parameters.get("max_length_ms", 5.0)) * excerpt.rate / 1000))
    target = _events(excerpt, float(parameters.get("sensitivity", 0.5)))
    for channel in range(samples.shape[1]):
        wanted = target[:, channel]
        if not wanted.any():
            continue
        wave = bridged_over(samples[:, channel], excerpt.damage[:, channel] & ~excerpt.target[:, channel])
        # A neighbour that is not mended yet must not spoil the model of this one.
        mended = bridged_over(wave, wanted)
        for start, stop in zip(*(edges.tolist() for edges in spans_in(wanted)), strict=True):
            if is_cancelled():
                raise CancelledError
            reach = round(REACH_SECONDS * excerpt.rate) if finds_extent else 0
            low, high = max(0, start - reach), min(len(wave), stop + reach)
            mended[low:high] = wave[low:high]
            found = Extent(start, stop)
            seen = within_reach(mended, start, stop, excerpt.rate) if finds_extent else found
            for tried in (seen, found)[: 1 + finds_extent]:
                made = filled(mended, tried)
                if (
                    finds_extent
                    and expected_gain_db(mended, tried.start, tried.stop, made, excerpt.rate) < _LEAST_GAIN_DB
                ):
                    continue
                if tried.stop - tried.start <= longest:
                    mended[tried.start : tried.stop] = made
                    samples[tried.start : tried.stop, channel] = made
                break
    return samples


def within_reach(wave: Wave, start: int, stop: int, rate: int) -> Extent:
    """Return where a click's damage begins and ends, followed no further than 4 ms outside of what was found."""
    reach = round(REACH_SECONDS * rate)
    seen = extent(wave, start, stop, rate)
    begin, end = max(seen.start, start - reach), min(seen.stop, stop + reach)
    return seen if (begin, end) == (seen.start, seen.stop) else Extent(begin, end)


def filled(wave: Wave, seen: Extent) -> Wave:
    """Return the samples of a click's damage, as the sound on both sides has them."""
    return seen.expected if seen.expected is not None else rebuilt(wave, seen.start, seen.stop)


def rebuilt(wave: Wave, start: int, stop: int, order: int | None = None) -> Wave:
    """Return the samples of a short gap, as the sound on both sides has them; the order follows its length."""
    order = order or order_for(stop - start)
    left, right = context_of(start, stop, order, len(wave))
    return interpolated(wave[left:right], start - left, stop - left, order, SWEEPS)[0]


def _events(excerpt: Excerpt, sensitivity: float) -> Mask:
    """Return the target's events: its short runs, and the clicks that are found in its long ones."""
    longest = round(LONGEST_EVENT_SECONDS * excerpt.rate)
    events = np.zeros_like(excerpt.target)
    stretches = np.zeros_like(excerpt.target)
    for channel in range(excerpt.target.shape[1]):
        for start, stop in zip(*spans_in(excerpt.target[:, channel]), strict=True):
            (events if stop - start <= longest else stretches)[start:stop, channel] = True
    if stretches.any():
        events |= _found(excerpt, sensitivity) & stretches
    return events


def _found(excerpt: Excerpt, sensitivity: float) -> Mask:
    detector = ClickDetector(Format(excerpt.rate, excerpt.samples.shape[1], 0.0))
    for block in blocks(ArraySource(excerpt.samples, excerpt.rate, "excerpt")):
        detector.feed(block)
    found = np.zeros_like(excerpt.target)
    for finding in detector.findings():
        if finding.confidence >= 1 - sensitivity:
            found[finding.start : finding.stop, list(finding.channels)] = True
    return found


METHOD = Method(
    name="declick",
    title="Declick",
    summary="Rebuilds clicks and wrong samples, as far as their damage truly reaches.",
    parameters=(
        Parameter(
            "extent",
            "choice",
            "auto",
            "how much is rebuilt: as far as the damage is found to reach, or just the place",
            choices=("auto", "as_found"),
        ),
        Parameter(
            "sensitivity",
            "number",
            0.5,
            "in a place longer than 20 ms: how readily something is taken for a click",
            low=0.0,
            high=1.0,
        ),
        Parameter(
            "max_length_ms", "number", 10.0, "damage longer than this is left alone", unit="ms", low=0.01, high=20.0
        ),
    ),
    does=Rebuilding(
        rebuild,
        context_seconds=0.1,
        minds=("click", "mouth_click", "dropout"),
        reach=lambda _: REACH_SECONDS,
        may_leave=True,
    ),
)
