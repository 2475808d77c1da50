"""Clipping: finds the rails a recording was cut off at, and every run of samples that lies on one.

No published detector is followed; the reasoning is this. A clipped channel has, for each polarity, a *rail*: a
level that many flat tops (see :mod:`flat_tops`) share and that nothing near them passes. Each flat top is a piece of
evidence, counted in bits: that one more sample of a natural wave lies within the tolerance, where the samples beside
the run have fallen far, is as improbable as the tolerance is small against that fall. Tops at one level add up; a
rail seen on the other side or in another channel helps. So one long flat top in an hour is found, and so are
thousands of single samples on a rail that others have proved. That many single samples share a level proves nothing:
the peaks of a tone do, and those that a limiter has turned down to its ceiling. Nor do a few that are flat by chance
where tops lie as close below the level as on it.

The tops are measured five ways, and each side keeps the one that explains the most: *exact* (cut off in the
converter or in the file), *dithered* (the level of a 16-bit file was changed afterwards), *moving* (the level was
changed gradually afterwards, so that the rail moves with it), *leaning* (it was changed quickly, see
:mod:`leaning_tops`); and *frayed* (see :mod:`frayed_rails`).
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt

from umbrick.core.survey.detector import Block, Format, Kind
from umbrick.core.survey.finding import Family, Finding
from umbrick.core.survey.tops.coarse_values import CoarseValues
from umbrick.core.survey.tops.flat_tops import (
    FLOOR,
    Floats,
    Integers,
    Tops,
    TopsKept,
    find_tops,
    grid_step,
    slot_frames,
    slot_levels,
)
from umbrick.core.survey.tops.frayed_rails import HALF_BAND, TOLERANCE, WIDE, Breadths, Frayed, breadths, frayed_rails
from umbrick.core.survey.tops.leaning_tops import Lines, leaning_rails, leaning_tops, straight_lines
from umbrick.core.survey.tops.rails import (
    FLAT_BITS,
    Rail,
    are_flat,
    evidence_bits,
    frames_on,
    is_piled_up,
    is_same_level,
)
from umbrick.core.units import amplitude_to_db, format_count, format_db

_DITHER_STEPS = 3.1
"""How far dither moves a sample, in steps."""

_COARSE_STEP = 2.0**-17
"""Finer grids than this are not audibly dithered: the exact tops are all there is."""

_MOVING = 1.2e-4
"""How far a rail may move within one short slot, relative to its level: 6 dB in 6 seconds."""

_DITHER_CLEARLY, _MOVING_CLEARLY = 1.05, 1.3
"""How many times more must be explained by dither, or by a rail that moves. Dithered at full scale most of a top is
exact, and what is a step below belongs to it all the same; where nothing was dithered that is one in a hundred."""

_FRAYED_SHARE = 5.0
"""Frayed tops reach further down than clean ones; they are believed if they explain this many times as much."""

_FASTEST_MOVE = 0.7
"""How fast a level is changed at most, as a share of itself in a second."""

_FULL_EVIDENCE_BITS = 10.0
"""Evidence at which a rail is as likely real as not to be; 2.5 bits more or less turn the odds by two."""

_LONE_PAIR_BITS = 3.0
"""Taken from a level that a single pair of equal samples speaks for: any long recording has some by chance."""

_LEAST_FLAT_SHARE, _LEAST_DITHERED_SHARE, _LEAST_MOVING_SHARE = 0.01, 0.1, 0.2
"""What share of the tops on a rail must be flat; of one that was dithered, and even more of one that moves: they find
room for many that are not."""

_MOST_HELD, _HALFWAY = 0.3, 0.7
"""Where more of the samples that lie well below the tops are equal to the next, that tops are flat means nothing."""

_LASTS_ALIKE = 0.1
_COINCIDENCE_SECONDS = 0.1
_NEARBY_SECONDS = 0.25
_REACH_SECONDS = 30.0
_LEAST_CONFIDENCE = 0.05


@dataclass
class _Side:
    """What is collected of one polarity of one channel."""

    channel: int
    polarity: int
    levels: list[Floats] = field(default_factory=list)
    alike: TopsKept = field(default_factory=TopsKept)
    """Those that are the same measured exactly and as dithered: nearly all."""
    exact: TopsKept = field(default_factory=TopsKept)
    """Those measured exactly that are not among them."""
    dithered: TopsKept = field(default_factory=TopsKept)
    moving: TopsKept = field(default_factory=TopsKept)
    frayed: TopsKept = field(default_factory=TopsKept)
    wide: TopsKept = field(default_factory=TopsKept)
    breadths: list[Breadths] = field(default_factory=list)
    leaning: TopsKept = field(default_factory=TopsKept)
    was_dithered: bool = False
    halfway: int = 0
    """Samples that lie well below the tops,"""
    held: int = 0
    """and those of them that are equal to the next."""

    def add(self, exact: Tops, dithered: Tops | None) -> None:
        """Keep the tops of a block as measured exactly, and as if it were dithered where it may be."""
        if dithered is None:
            self.exact.add(exact)
            return
        self.was_dithered = True
        shared = exact.shared_with(dithered)
        self.alike.add(exact.where(shared))
        self.exact.add(exact.where(~shared))
        self.dithered.add(dithered.where(~dithered.shared_with(exact)))

    def count_held(self, wave: Floats, levels: Floats, slot: int) -> None:
        """Count the samples of a block that are equal to the next although they are no tops."""
        whole = len(wave) // slot
        sizes = wave[: whole * slot].reshape(whole, slot)
        usual = np.where(levels[:whole] >= FLOOR, np.float32(_HALFWAY) * levels[:whole], np.float32(0))[:, np.newaxis]
        is_halfway = (sizes[:, :-1] < usual) & (sizes[:, :-1] > -usual) & (sizes[:, :-1] != 0)
        self.halfway += int(is_halfway.sum())
        self.held += int((is_halfway & (sizes[:, 1:] == sizes[:, :-1])).sum())

    @property
    def is_held(self) -> bool:
        """Whether the sound stays on its values wherever it is, as synthetic and crushed sound does."""
        return self.held > _MOST_HELD * self.halfway

    def exact_tops(self) -> Tops:
        """Return the tops as measured exactly, in order."""
        return _in_order(Tops.joined([self.alike.tops(), self.exact.tops()]))

    def dithered_tops(self) -> Tops:
        """Return the tops measured as if dithered, in order."""
        return _in_order(Tops.joined([self.alike.tops(), self.dithered.tops()]))


def _in_order(tops: Tops) -> Tops:
    return tops.where(np.argsort(tops.start, kind="stable"))


class ClippingDetector:
    """Collects tops block by block; decides about rails when all has been heard."""

    def __init__(self, form: Format) -> None:
        self._format = form
        self._slot = slot_frames(form.rate)
        self._step = form.step
        self._said: dict[tuple[int, int, float], tuple[str, float, dict[str, Any]]] = {}
        self._coarse = [CoarseValues() for _ in range(form.channels)]
        self._sides = [_Side(c, p) for c in range(form.channels) for p in (1, -1)]

    def feed(self, block: Block) -> None:
        """Collect the tops that begin in the block."""
        self._step = max(self._step, grid_step(block.samples))
        skip = block.before // self._slot * self._slot
        first = block.start - skip
        for channel, coarse in enumerate(self._coarse):
            coarse.feed(block.samples[block.before - skip :, channel])
        lines = [self._lines(channel, wave) for channel, wave in enumerate(block.samples[block.before - skip :].T)]
        for side in self._sides:
            column = block.samples[block.before - skip :, side.channel]
            wave = np.ascontiguousarray(column) if side.polarity > 0 else -column
            levels = slot_levels(wave, self._slot)
            own = slice(skip // self._slot, -(-(block.stop - first) // self._slot))
            side.levels.append(levels[own])
            side.count_held(wave, levels, self._slot)
            short = max(8, self._slot // 8)
            short_levels = slot_levels(wave, short)

            def own_tops(tops: Tops) -> Tops:
                tops = tops._replace(start=tops.start + first)
                return tops.where((tops.start >= block.start) & (tops.start < block.stop))

            exact = own_tops(find_tops(wave, levels, self._slot, self._exact(side, levels)))
            moving = self._near_seeds(find_tops(wave, short_levels, short, self._moving(side, short_levels)))
            frayed = find_tops(wave, levels, self._slot, self._frayed(side, levels))
            dithered = None
            if self._step > _COARSE_STEP:
                dithered = own_tops(find_tops(wave, levels, self._slot, self._dithered(side, levels)))
            side.add(exact, dithered)
            side.moving.add(own_tops(moving))
            side.frayed.add(own_tops(frayed))
            side.wide.add(own_tops(find_tops(wave, levels, self._slot, np.maximum(levels, FLOOR) * np.float32(WIDE))))
            side.breadths.append(breadths(wave, levels, self._slot).within(own.start, own.stop))
            side.leaning.add(own_tops(leaning_tops(wave, lines[side.channel], self._steps(side, levels), self._slot)))

    def findings(self) -> list[Finding]:
        """Return one finding for each run of clipped samples."""
        chosen, unproven = zip(*(self._best_rails(side) for side in self._sides), strict=True)
        proven = [rail.level for rails in chosen for rail in rails if not rail.frayed]
        for rails, doubtful in zip(chosen, unproven, strict=True):
            # A side that reached a rail but for single samples has it where another side, or channel, has it.
            rails += (
                []
                if rails
                else [rail for rail in doubtful if any(is_same_level(level, rail.level) for level in proven)]
            )
        findings: list[Finding] = []
        for index, side in enumerate(self._sides):
            others = [rail for k, rails in enumerate(chosen) if k != index for rail in rails]
            for rail in chosen[index]:
                if self._is_tone(rail, chosen[index ^ 1]):
                    continue
                agreeing = max((r.bits for r in others if is_same_level(r.level, rail.level)), default=0.0)
                bits = rail.bits if rail.frayed else rail.bits + min(agreeing, 6.0)
                confidence = 1.0 / (1.0 + 2.0 ** (-(bits - _FULL_EVIDENCE_BITS) / 2.5))
                if confidence >= _LEAST_CONFIDENCE:
                    findings += [
                        self._finding(side, int(start), int(length), rail, float(level), confidence)
                        for start, length, level, _ in zip(*rail.tops, strict=True)
                    ]
        # A top can lie on two rails that cross: the surer one keeps it.
        unique: dict[tuple[int, tuple[int, ...], str], Finding] = {}
        for finding in findings:
            key = finding.start, finding.channels, finding.detail["side"]
            if key not in unique or finding.confidence > unique[key].confidence:
                unique[key] = finding
        return sorted(unique.values(), key=lambda f: f.start)

    def _best_rails(self, side: _Side) -> tuple[list[Rail], list[Rail]]:
        """Return the rails of a side, and those that would be if their tops were flat."""
        if side.is_held:
            return [], []
        levels = np.concatenate(side.levels) if side.levels else np.zeros(0, np.float32)
        kinds = [self._rails(side.exact_tops(), levels, self._exact(side, levels))]
        if side.was_dithered:
            kinds.append(self._rails(side.dithered_tops(), levels, self._dithered(side, levels), _LEAST_DITHERED_SHARE))
        kinds.append(
            self._rails(side.moving.tops(), levels, self._moving(side, levels), _LEAST_MOVING_SHARE, moving=True)
        )
        leaning = leaning_rails(side.leaning.tops(), side.moving.tops(), levels, self._slot, self._format.rate)
        kinds.append([Rail(tops, bits, float(np.median(tops.level))) for tops, bits in leaning])
        best: list[Rail] = []
        moved = _MOVING_CLEARLY, _MOVING_CLEARLY
        least = (1.0, _DITHER_CLEARLY, *moved) if side.was_dithered else (1.0, *moved)
        for rails, clearly in zip(kinds, least, strict=True):
            flat = [rail for rail in rails if rail.flat]
            if frames_on(flat) > clearly * frames_on(best):
                best = flat
        found = self._frayed_rails(side, levels)
        frayed = [Rail(rail.tops, rail.bits, float(np.median(rail.tops.level)), frayed=True) for rail in found]
        # What stands at a level without being flat was turned down to it, and is no frayed clipping either.
        most = max(map(frames_on, kinds))
        best = frayed if sum(rail.frames for rail in found) > _FRAYED_SHARE * most else best
        return best, [rail for rail in kinds[0] if not rail.flat]

    def _frayed_rails(self, side: _Side, levels: Floats) -> list[Frayed]:
        highest = levels.max(initial=FLOOR)
        # Where few values are told apart, natural tops crowd at them too.
        if float(self._steps(side, np.array([highest]))[0]) > HALF_BAND * highest:
            return []
        breadths_kept = Breadths.joined(side.breadths)
        return frayed_rails(side.frayed.tops(), side.wide.tops(), breadths_kept, self._slot, self._format.rate)

    def _lines(self, channel: int, wave: Floats) -> Lines:
        wave = np.ascontiguousarray(wave)
        upper, lower = slot_levels(wave, self._slot), -slot_levels(-wave, self._slot)
        coarse = self._coarse[channel]
        steps = np.maximum(np.maximum(coarse.step_at(upper), coarse.step_at(lower)), np.float32(self._step))
        return straight_lines(wave, steps, self._slot)

    def _steps(self, side: _Side, levels: Floats) -> Floats:
        """Return the distance between neighbouring values at each level, 0 where there is none."""
        return np.maximum(self._coarse[side.channel].step_at(side.polarity * levels), np.float32(self._step))

    def _exact(self, side: _Side, levels: Floats) -> Floats:
        steps = self._steps(side, levels)
        if self._step > 0:
            return np.float32(0.51) * steps
        return np.maximum(np.float32(0.51) * steps, np.maximum(levels * np.float32(4e-7), np.float32(1e-9)))

    def _dithered(self, side: _Side, levels: Floats) -> Floats:
        tolerance = np.float32(_DITHER_STEPS * self._step)
        exact = self._exact(side, levels)
        return np.where(levels > 1500 * tolerance, np.maximum(tolerance, exact), exact)

    def _moving(self, side: _Side, levels: Floats) -> Floats:
        return np.maximum(self._exact(side, levels), levels * np.float32(_MOVING))

    def _frayed(self, side: _Side, levels: Floats) -> Floats:
        return np.maximum(self._exact(side, levels), np.maximum(levels, FLOOR) * np.float32(TOLERANCE))

    def _near_seeds(self, tops: Tops) -> Tops:
        """Keep the tops that could matter: flat ones, and any at the level of the flat ones before and after it.

        Slots short enough for a rail that moves have many tops, nearly all of them natural.
        """
        seeds = np.flatnonzero(evidence_bits(tops) > FLAT_BITS)
        if not len(seeds):
            return Tops.none()
        rail = np.interp(tops.start, tops.start[seeds], tops.level[seeds])
        near = np.abs(tops.level - rail) <= 5e-4 * rail
        near[seeds] = True
        return tops.where(near)

    def _rails(
        self,
        tops: Tops,
        levels: Floats,
        tolerance_at: Floats,
        least_flat: float = _LEAST_FLAT_SHARE,
        moving: bool = False,
    ) -> list[Rail]:
        bits = evidence_bits(tops) + self._coincidence(tops, tolerance_at)
        seeds = np.flatnonzero(bits > 0)
        seeds = seeds[~self._is_passed(tops.start[seeds], tops.level[seeds], levels)]
        if not len(seeds):
            return []
        highest = float(levels.max())
        trials = np.log2(max(1.0, len(tops.start) / 100))
        rails = []
        groups = self._moving_groups(tops, seeds) if moving else self._groups(tops, seeds, tolerance_at)
        for group in groups:
            slack = float(np.max(tolerance_at[tops.start[group] // self._slot]))
            evidence = float(bits[group].sum()) - trials
            if len(group) == 1 and tops.length[group[0]] == 2:
                evidence -= _LONE_PAIR_BITS
            if highest <= float(tops.level[group].max()) + 2 * slack:
                evidence += 4.0
            if evidence > 0:
                on_rail = self._on_rail(tops, np.sort(group), slack)
                members, level = tops.where(on_rail), float(np.median(tops.level[group]))
                is_piled = moving or is_piled_up(tops, on_rail, slack)
                flat = is_piled and are_flat(members, least_flat)
                rails.append(Rail(members, evidence, level, flat=flat))
        return rails

    def _coincidence(self, tops: Tops, tolerance_at: Floats) -> Floats:
        """Return the evidence in each top's sharing its level with the top before it, in bits.

        Two tops that end alike as well are not counted: a steady tone or a loop repeats itself to the sample.
        """
        bits = np.zeros(len(tops.start), np.float32)
        slack = tolerance_at[tops.start[1:] // self._slot]
        level, cut = tops.level[1:], tops.cut[1:]
        same = (
            (np.abs(np.diff(tops.level)) <= slack)
            & (np.diff(tops.start) <= _COINCIDENCE_SECONDS * self._format.rate)
            & (np.abs(np.diff(tops.cut)) > 0.05 * cut)
        )
        chance = np.minimum(0.05 * level / slack, np.minimum(tops.cut[:-1], cut) / 4)
        bits[1:] = np.where(same, np.clip(np.log2(chance), 0, 8), 0)
        return bits

    def _groups(self, tops: Tops, seeds: Integers, tolerance_at: Floats) -> list[Integers]:
        """Sort seeds into those that share one level."""
        by_level = seeds[np.argsort(tops.level[seeds], kind="stable")]
        height = tops.level[by_level]
        slack = tolerance_at[tops.start[by_level] // self._slot]
        gap = np.maximum(3 * slack, 4e-4 * height)
        groups = []
        for group in np.split(by_level, np.flatnonzero(np.diff(height) > gap[1:]) + 1):
            levels = tops.level[group]
            widest = 4 * float(slack.max())
            shelf = np.floor((levels - levels.min()) / widest)
            groups += [group] if np.ptp(levels) <= widest else [group[shelf == value] for value in np.unique(shelf)]
        return groups

    def _moving_groups(self, tops: Tops, seeds: Integers) -> list[Integers]:
        """Sort seeds into those whose level moves no faster from one to the next than a level is ever changed."""
        level = tops.level[seeds]
        around = np.lib.stride_tricks.sliding_window_view(np.pad(level, 2, mode="edge"), 5)
        steady = seeds[np.abs(np.median(around, axis=1) - level) < 0.01 * level]
        if not len(steady):
            return []
        seconds = np.diff(tops.start[steady]) / self._format.rate
        level = tops.level[steady]
        jumps = np.abs(np.diff(level)) > level[1:] * (_FASTEST_MOVE * seconds + 5e-4)
        groups = np.split(steady, np.flatnonzero(jumps) + 1)
        return [g for g in groups if len(g) >= 8 and np.ptp(tops.level[g]) > 8 * _MOVING * tops.level[g].max()]

    def _is_passed(self, starts: Integers, heights: Floats, levels: Floats) -> npt.NDArray[np.bool_]:
        """Whether the sound near each top passes its level in more than a tenth of the slots: then it is no rail."""
        reach = max(1, round(_NEARBY_SECONDS * self._format.rate / self._slot))
        padded = np.pad(levels, reach, constant_values=0)
        passed = np.empty(len(starts), np.bool_)
        around = np.lib.stride_tricks.sliding_window_view(padded, 2 * reach + 1)
        for first in range(0, len(starts), 8192):
            part = slice(first, first + 8192)
            higher = around[starts[part] // self._slot] > heights[part, np.newaxis] * np.float32(1.02)
            passed[part] = higher.sum(axis=1) > 0.1 * (2 * reach + 1)
        return passed

    def _on_rail(self, tops: Tops, seeds: Integers, slack: float) -> npt.NDArray[np.bool_]:
        """Which tops lie on the rail that the seeds (in order of time) mark out."""
        seed_starts, seed_levels = tops.start[seeds], tops.level[seeds]
        spread = float(seed_levels.max() - seed_levels.min())
        if spread <= 4 * slack:
            fits = (tops.level >= seed_levels.min() - slack) & (tops.level <= seed_levels.max() + slack)
        else:
            # A rail that moves, because the level was changed after the clipping: follow it from seed to seed.
            rail = np.interp(tops.start, seed_starts, seed_levels)
            fits = np.abs(tops.level - rail) <= slack + 2e-4 * rail
        after = (
            np.clip(np.searchsorted(seed_starts, tops.start), 1, len(seed_starts) - 1)
            if len(seeds) > 1
            else np.zeros(len(tops.start), np.int64)
        )
        distance = np.minimum(np.abs(seed_starts[after] - tops.start), np.abs(seed_starts[after - 1] - tops.start))
        fits &= distance <= _REACH_SECONDS * self._format.rate
        fits[seeds] = True
        return fits

    def _is_tone(self, rail: Rail, opposite: list[Rail]) -> bool:
        """Whether the flat tops are the shape of a synthetic wave, not damage.

        A square or pulse wave lies on its two levels nearly all the time; one with slower edges, at a level where
        nothing clips, has tops of one length.
        """
        slots = np.unique(rail.tops.start // self._slot)
        flat = int(rail.tops.length.sum())
        for other in opposite:
            flat += int(other.tops.length[np.isin(other.tops.start // self._slot, slots)].sum())
        longest = int(rail.tops.length.max())
        share = flat / max(len(slots) * self._slot, longest)
        if share > 0.85 and _last_alike(rail.tops):
            return True
        lengths = rail.tops.length
        low, middle, high = np.percentile(lengths, (10, 50, 90))
        regular = len(lengths) >= 12 and high - low <= max(1.0, 0.05 * middle)
        return bool(regular and share > 0.35 and rail.level < 0.25)

    def _finding(self, side: _Side, start: int, length: int, rail: Rail, level: float, confidence: float) -> Finding:
        evidence, severity, detail = self._words(side.polarity, length, level)
        return Finding(
            id="",
            kind="clipping",
            start=start,
            stop=start + length,
            channels=(side.channel,),
            severity=severity,
            confidence=round(float(confidence), 3),
            evidence=evidence,
            detail=detail,
        )

    def _words(self, polarity: int, length: int, level: float) -> tuple[str, float, dict[str, Any]]:
        """Return evidence, severity and detail; a rail has thousands of runs, and runs alike share theirs."""
        key = polarity, length, level
        if key not in self._said:
            milliseconds = 1e3 * length / self._format.rate
            level_db = amplitude_to_db(level)
            where = "" if polarity > 0 else ", lower side"
            self._said[key] = (
                f"{format_count(length, 'flat sample')} at {format_db(level_db)}{where}",
                round(1.0 - float(np.exp(-milliseconds / 0.15)), 3),
                {"side": "upper" if polarity > 0 else "lower", "rail": level, "rail_dbfs": round(level_db, 3)},
            )
        return self._said[key]


def _last_alike(tops: Tops) -> bool:
    """Whether most tops last as long as the next one, as those of a square wave do; what is clipped by far does not."""
    if len(tops.length) < 3:
        return True
    return bool(np.median(np.abs(np.diff(tops.length)) / tops.length[1:]) < _LASTS_ALIKE)


KIND = Kind(
    name="clipping",
    title="Clipping",
    family=Family.LEVELS,
    summary="samples cut off at a level the recorder could not pass",
    make=ClippingDetector,
)
