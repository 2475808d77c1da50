"""Faults of a transfer or of the room it was made in: slips, buffers repeated or in the wrong order, knocks, rumble.

Slips and buffers are made as two clocks and a ring of buffers make them; a knock is a force on a damped resonator, a
rumble the noise of a bearing with the motor's own tone. Told is how many are found, how many of those exactly (the very
frame, the right number of samples), what else is listed, and by how many dB the mended sound is nearer to the truth.
"""

from __future__ import annotations

from typing import NamedTuple
from zlib import crc32

import numpy as np
from scipy.signal import butter, sosfilt

from benchmarks.corpus import as_a_file, clean
from umbrick.core.mend.plan import carried_out, planned
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor
from umbrick.core.timeline.version import Version

_BUFFERS = (256, 480, 512, 1024, 2048)
_OFF_SECONDS = 0.0005


class Faulty(NamedTuple):
    """A sound with faults, where they are, and what it was; ``truth`` is as long as what a right mend leaves."""

    sound: np.ndarray
    spans: list[tuple[int, int]]
    truth: np.ndarray


def slips(samples):
    """Return a maker of slips: every half second and a bit one sample comes twice (1), or is lost (−1)."""

    def make(sound, rate, random):
        period = round(random.uniform(0.4, 0.7) * rate)
        parts, spans, last, made = [], [], 0, 0
        for at in range(rate // 4, len(sound) - rate // 4, period):
            parts.append(sound[last:at])
            made += at - last
            spans.append((made, made + 1))
            if samples > 0:
                parts.append(sound[at - 1 : at])
                made += 1
            last = at if samples > 0 else at + 1
        return Faulty(np.concatenate([*parts, sound[last:]]), spans, sound)

    return make


def _places(sound, rate, random):
    return [at + int(random.integers(0, rate // 8)) for at in range(rate // 2, len(sound) - rate, rate)]


def swapped(sound, rate, random):
    """Exchange two buffers with each other."""
    faulty, spans = sound.copy(), []
    for at in _places(sound, rate, random):
        size = int(random.choice(_BUFFERS))
        faulty[at : at + 2 * size] = np.roll(sound[at : at + 2 * size], size, axis=0)
        spans.append((at, at + 2 * size))
    return Faulty(faulty, spans, sound)


def never_came(sound, rate, random):
    """Play a buffer again where the next one has not come."""
    faulty, spans = sound.copy(), []
    for at in _places(sound, rate, random):
        size = int(random.choice(_BUFFERS[1:]))
        faulty[at : at + size] = sound[at - size : at]
        spans.append((at, at + size))
    return Faulty(faulty, spans, sound)


def knocks(sound, rate, random):
    """Knock on a stand: half a sine of force on a resonator of 14 to 75 Hz, 3 dB under to 12 dB over the sound."""
    faulty, spans, t = sound.copy(), [], np.arange(round(0.6 * rate)) / rate
    loud = np.sqrt(np.mean(sound**2)) * np.sqrt(2)
    for at in range(rate, len(sound) - rate, 2 * rate):
        hertz, quality = random.uniform(14, 75), random.uniform(0.7, 2.5)
        answer = np.exp(-np.pi * hertz / quality * t) * np.sin(2 * np.pi * hertz * t)
        force = np.sin(np.pi * np.minimum(4 * hertz * t, 1)) ** 2
        knock = np.convolve(force, answer)[: len(t)]
        knock *= loud * 10 ** (random.uniform(-3, 12) / 20) / np.abs(knock).max()
        faulty[at : at + len(t)] += knock[: len(sound) - at, np.newaxis]
        spans.append((at, at + round(1.2 * rate / hertz)))
    return Faulty(faulty, spans, sound)


def rumble(sound, rate, random):
    """Add the noise of a bearing below 22 Hz and a motor's 27.7 Hz, 24 dB under the sound."""
    noise = random.standard_normal((2, len(sound)))
    bearing, floor = (
        sosfilt(butter(order, band, "band", fs=rate, output="sos"), one)
        for order, band, one in ((2, (7, 22), noise[0]), (1, (20, 60), noise[1]))
    )
    motor = np.sin(2 * np.pi * 27.7 * np.arange(len(sound)) / rate)
    made = bearing / bearing.std() + 0.25 * floor / floor.std() + 0.3 * motor
    made *= np.std(sound) * 10 ** (-24 / 20) / made.std()
    return Faulty(sound + made[:, np.newaxis], [(0, len(sound))], sound)


_FAULTS = {
    "a sample too many": (slips(1), "slip"),
    "a sample too few": (slips(-1), "slip"),
    "buffers exchanged": (swapped, "discontinuity"),
    "buffers that never came": (never_came, "stutter"),
    "knocks": (knocks, "thump"),
    "rumble": (rumble, "rumble"),
}


def run(files) -> None:
    """Measure and print."""
    for name, (make, kind) in _FAULTS.items():
        planted = found = exact = others = clean_ones = 0
        gains, minutes = [], 0.0
        for path in files:
            sound, rate = clean(path)
            sound = sound[:, :1]
            minutes += len(sound) / rate / 60
            clean_ones += sum(f.kind == kind for f in _listed(sound, rate))
            faulty = make(sound, rate, np.random.default_rng(crc32(path.stem.encode())))
            listed = [finding for finding in _listed(faulty.sound, rate) if finding.kind == kind]
            off = round(_OFF_SECONDS * rate)
            near = [
                [f for f in listed if f.start < stop + off and f.stop > start - off] for start, stop in faulty.spans
            ]
            planted, found = planted + len(near), found + sum(map(bool, near))
            exact += sum(
                any(abs(f.start - start) <= 1 and abs(f.stop - stop) <= 1 for f in some)
                for some, (start, stop) in zip(near, faulty.spans, strict=True)
            )
            others += sum(not any(f in some for some in near) for f in listed)
            gains += _gains_db(faulty, rate, near)
        gain = f", mended {np.median(gains):.0f} dB nearer ({np.mean(np.array(gains) > 0):.0%} nearer)" if gains else ""
        print(
            f"{name:24} {found} of {planted} found, {exact} exactly; {others / minutes:.2f} others a minute, "
            f"{clean_ones / minutes:.2f} in the clean sound{gain}",
            flush=True,
        )


def _listed(sound, rate):
    return Surveyor(as_a_file(sound, rate), 24, list(KINDS.values())).run().sifted({})


def _gains_db(faulty, rate, near):
    """Return by how much what lies within each found span is nearer to the truth when it alone is mended as offered
    first, where that leaves as much sound as there was."""
    if len(faulty.sound) != len(faulty.truth):
        return []
    version, gains = Version.of(as_a_file(faulty.sound, rate)), []
    for some, (start, stop) in zip(near, faulty.spans, strict=True):
        plan = planned(some[:1], version)
        mended = carried_out(version, plan, some).mended if plan else None
        if mended is None or mended.version.frames != version.frames:
            continue
        before, after = (
            float(np.sum(np.square(one.read(start, stop) - faulty.truth[start:stop]))) + 1e-12
            for one in (version, mended.version)
        )
        gains.append(10 * np.log10(before / after))
    return gains
