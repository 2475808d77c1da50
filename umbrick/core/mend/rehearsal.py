"""Rehearsing: the same kind of fault is planted where the recording is clean, and every mend of it is measured."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from umbrick.core.errors import CancelledError, ParameterError
from umbrick.core.mend.plan import applied
from umbrick.core.mend.remedies import first_remedy, remedies
from umbrick.core.survey.finding import Finding
from umbrick.core.timeline.change import replace_many
from umbrick.core.timeline.patch import Nature, Patch
from umbrick.core.timeline.version import Version

Wave = npt.NDArray[np.float64]

KINDS = ("clipping", "click", "mouth_click", "crackle", "dropout")
"""Kinds whose truth is known where they are planted: what was there before."""

PLACES = 6
_CLEAR_SECONDS = 0.1
_TRIED = 400
_WITHIN_DB = 10.0
_LEVEL_SECONDS = 0.02
_CLIPPED_SEARCH_SECONDS = 0.05
_LONGEST_SECONDS = 2.0
_NOT_REHEARSED = ("dethump",)
"""What mends more than is planted."""


class Row(NamedTuple):
    """How one mend did: its error against the truth at every place, in dB below the sound itself, NaN where it could
    not be made."""

    title: str
    ratios_db: tuple[float, ...]

    @property
    def mean_db(self) -> float:
        """The mean over the places at which it could be made; −99 if there were none."""
        known = [ratio for ratio in self.ratios_db if np.isfinite(ratio)]
        return float(np.mean(known)) if known else -99.0


class Rehearsal(NamedTuple):
    """What was tried: a row for each mend, best first, and where the faults were planted."""

    rows: tuple[Row, ...]
    places: tuple[int, ...]

    @property
    def best(self) -> Row:
        """The mend that came nearest to the truth."""
        return self.rows[0]


class _Planted(NamedTuple):
    version: Version
    finding: Finding
    truth: Wave


def rehearse(
    finding: Finding,
    version: Version,
    known: Sequence[Finding],
    progress: Callable[[float], None] = lambda _: None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> Rehearsal:
    """Return how every mend that is offered for a finding does on the same fault at clean places of the recording.

    Parameters
    ----------
    finding : Finding
        One of :data:`KINDS`. Its length is planted, and its level against the sound around it.
    version : Version
    known : sequence of Finding
        All that is known to be wrong: places are chosen clear of it.
    progress, is_cancelled : callable
        Told the share done, from 0 to 1; asked whether to stop.

    Raises
    ------
    ParameterError
        If the truth of such a fault cannot be known, or there are too few clean places like it.
    CancelledError
        If ``is_cancelled`` says so.
    """
    if finding.kind not in KINDS:
        raise ParameterError("This kind of fault cannot be simulated, so mends cannot be compared.")
    if finding.stop - finding.start > _LONGEST_SECONDS * version.rate:
        raise ParameterError("This fault is too long to be rehearsed.", "Choose one of less than two seconds.")
    planted = []
    for start in _clean_places(finding, version, known):
        if (one := _plant(finding, version, start)) is not None:
            planted.append(one)
        if len(planted) == PLACES:
            break
    if len(planted) < 2:
        raise ParameterError("There are too few clean places like this one to rehearse at.", "Choose by ear (1 to 5).")
    ratios: dict[str, list[float]] = {}
    for number, one in enumerate(planted):
        for remedy in remedies(one.finding, one.version):
            if is_cancelled():
                raise CancelledError
            if remedy.method.time_shift != "none" or remedy.method.name in _NOT_REHEARSED:
                continue
            try:
                made = applied(one.version, remedy, [one.finding], is_cancelled)
                ratio_db = _ratio_db(one, made.version)
            except ParameterError:
                ratio_db = float("nan")
            ratios.setdefault(remedy.title, []).append(ratio_db)
        progress((number + 1) / len(planted))
    rows = sorted((Row(title, tuple(found)) for title, found in ratios.items()), key=lambda row: -row.mean_db)
    return Rehearsal(tuple(rows), tuple(one.finding.start for one in planted))


def _clean_places(finding: Finding, version: Version, known: Sequence[Finding]) -> Iterator[int]:
    """Yield starts of places as long as a finding, about as loud as what is around it, clear of all that is known."""
    length, clear = finding.stop - finding.start, round(_CLEAR_SECONDS * version.rate)
    last = version.frames - length - 2 * clear
    if last <= clear:
        return
    spans = [(other.start, other.stop) for other in known if other.stop - other.start < version.frames // 2]
    spans.append((finding.start, finding.stop))
    around = max(round(_LEVEL_SECONDS * version.rate), length)
    channels = list(finding.channels)
    beside = np.concatenate(
        [
            version.read(max(0, finding.start - around), finding.start)[:, channels],
            version.read(finding.stop, min(version.frames, finding.stop + around))[:, channels],
        ]
    )
    level_db = _level_db(beside)
    # The same recording and fault are rehearsed at the same places every time.
    random = np.random.default_rng((finding.start, length))
    taken: list[int] = []
    for start in random.integers(clear, last, _TRIED).tolist():
        if any(start < stop + clear and start + length > begin - clear for begin, stop in spans):
            continue
        if any(abs(start - other) < length + clear for other in taken):
            continue
        there = version.read(start - around // 2, start + length + around // 2)[:, channels].astype(np.float64)
        if abs(_level_db(there) - level_db) <= _WITHIN_DB:
            taken.append(start)
            yield start


def _plant(finding: Finding, version: Version, start: int) -> _Planted | None:
    """Return a version with the same fault at another place; None if it cannot be had there."""
    length, channels = finding.stop - finding.start, list(finding.channels)
    if finding.kind == "clipping":
        found = _clipped(version, start, length, channels[0])
        if found is None:
            return None
        start, wrong = found
        channels = channels[:1]
    else:
        right = version.read(start, start + length)[:, channels].astype(np.float64)
        wrong = np.zeros_like(right) if finding.kind == "dropout" else right + _residue(finding, version, right)
    whole = version.read_exact(start, start + length)
    truth = whole[:, channels].copy()
    whole[:, channels] = wrong
    patch = Patch(whole.astype(np.float32), version.rate, Nature.REBUILT)
    planted = replace_many(version, patch, [start], [start + length]).apply(version)
    moved = replace(finding, id="rehearsed", start=start, stop=start + length, channels=tuple(channels))
    return _Planted(planted, moved, truth)


def _residue(finding: Finding, version: Version, right: Wave) -> Wave:
    """Return what a finding's best mend takes out of it, as loud against the sound as it is there."""
    remedy = first_remedy(finding, version)
    assert remedy is not None
    mended = applied(version, remedy, [finding], lambda: False).version
    channels = list(finding.channels)
    before, after = (one.read(finding.start, finding.stop)[:, channels].astype(np.float64) for one in (version, mended))
    scale = 10 ** ((_level_db(right) - _level_db(after)) / 20)
    return np.asarray((before - after) * np.clip(scale, 0.1, 10.0))


def _clipped(version: Version, start: int, length: int, channel: int) -> tuple[int, Wave] | None:
    """Return the start and the flat samples of a run as long as wanted, at the highest swing nearby."""
    reach = round(_CLIPPED_SEARCH_SECONDS * version.rate)
    first = max(0, start - reach)
    wave = version.read(first, min(version.frames, start + reach))[:, channel].astype(np.float64)
    top = int(np.argmax(np.abs(wave)))
    sign = 1.0 if wave[top] >= 0 else -1.0
    heights = sign * wave
    # Lower the rail from the top until just as many samples in a row pass it.
    left = right = top
    while right - left + 1 < length:
        if left == 0 or right == len(wave) - 1:
            return None
        if heights[left - 1] >= heights[right + 1]:
            left -= 1
        else:
            right += 1
    rail = float(heights[left : right + 1].min())
    return (first + left, np.full((length, 1), sign * rail)) if rail > 0 else None


def _ratio_db(planted: _Planted, mended: Version) -> float:
    finding = planted.finding
    made = mended.read(finding.start, finding.stop)[:, list(finding.channels)].astype(np.float64)
    error = float(np.square(made - planted.truth).sum())
    return float(10 * np.log10((float(np.square(planted.truth).sum()) + 1e-12) / (error + 1e-12)))


def _level_db(sound: Wave) -> float:
    return float(10 * np.log10(float(np.mean(np.square(sound, dtype=np.float64))) + 1e-10)) if sound.size else -100.0
