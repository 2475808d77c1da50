"""Areas: intruders planted over clean recordings, rebuilt in their true area and in what one click gathers.

The signal-to-distortion ratio is that inside the true area. Printed beside ours: the area lowered as a whole to the
level that the truth has there, and magnitudes that lie evenly between those before and after it. How well voices are
understood (STOI) is measured where the package ``pystoi`` is installed, which nothing else needs.
"""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from zlib import crc32

import numpy as np
from scipy.ndimage import binary_closing, label

from benchmarks.corpus import as_a_file, clean, is_speech
from benchmarks.intruders import INTRUDERS, TONAL, beep, true_area
from umbrick.core.areas.alike import places_alike
from umbrick.core.areas.gather import Gathering
from umbrick.core.areas.harmonics import sounding_harmonics
from umbrick.core.areas.placed import gathered_at
from umbrick.core.areas.transform import ShortTime
from umbrick.core.areas.treating import RAMP_SECONDS
from umbrick.core.mend.applying import apply_method
from umbrick.core.mend.areas.area import settings_of
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import method_named
from umbrick.core.timeline.version import Version

_LEVELS_DB = (3.0, 10.0)
_SIZE_SECONDS = 0.043
_HEARD_DB = 30.0
_UNDERSTOOD_SECONDS = 0.5
"""The measure is one over some syllables around."""

_IN_PARTS = ("chirp",)
"""One click gathers one part of these."""


class Planted:
    """An intruder over a recording, with what is right."""

    def __init__(self, sound, rate, kind, level_db, random):
        intruder = INTRUDERS[kind](rate, random)
        # Where the recording sounds: a place of the louder half.
        for _ in range(20):
            at = int(random.integers(rate, len(sound) - len(intruder) - rate))
            own = sound[at : at + len(intruder)]
            if np.sqrt(np.mean(own**2)) > 0.5 * np.sqrt(np.mean(sound**2)):
                break
        intruder = intruder * np.sqrt(np.mean(own**2) / np.mean(intruder**2)) * 10 ** (level_db / 20)
        self.rate, self.at, self.stop, self.right = rate, at, at + len(intruder), sound
        self.area = true_area(intruder, rate, len(intruder))
        self.wrong = sound.copy()
        self.wrong[at : self.stop] += intruder
        reach = 3 * rate // 10
        self.around = slice(max(0, at - reach), self.stop + reach)
        self.transform = ShortTime(2 ** round(np.log2(_SIZE_SECONDS * rate)))
        cells = self.transform.cells(self.around.stop - self.around.start, rate, self.around.start - at)
        self.mask = self.area.covered(cells)
        self.truth = self.inside(self.right)

    def inside(self, wave):
        """Return what a wave has in the area."""
        return self.transform.spectra(wave[self.around]) * self.mask

    def sdr_db(self, wave):
        """Return the signal-to-distortion ratio in the area."""
        return 10 * np.log10(np.sum(np.abs(self.truth) ** 2) / np.sum(np.abs(self.inside(wave) - self.truth) ** 2))

    def energy_db(self, wave):
        """Return how loud a wave is in the area, against the truth."""
        return 10 * np.log10(np.sum(np.abs(self.inside(wave)) ** 2) / np.sum(np.abs(self.truth) ** 2))

    def with_spectra(self, change):
        """Return the wrong wave with its spectra changed."""
        wave = self.wrong.copy()
        spectra = self.transform.spectra(wave[self.around])
        wave[self.around] = self.transform.sound(change(spectra), self.around.stop - self.around.start)
        return wave

    def lowered(self):
        """Return it with the area as loud as it ought to be."""
        gain = 10 ** (-self.energy_db(self.wrong) / 20)
        return self.with_spectra(lambda spectra: spectra * (1 + self.mask * (gain - 1)))

    def interpolated(self):
        """Return it with magnitudes in the area evenly between those before and after."""

        def change(spectra):
            levels = np.abs(spectra)
            rows = np.arange(len(levels))
            for column in range(levels.shape[1]):
                known = self.mask[:, column] < 0.05
                if known.any() and not known.all():
                    wanted = np.interp(rows, rows[known], levels[known, column])
                    factor = np.minimum(1, wanted / np.maximum(levels[:, column], 1e-12))
                    spectra[:, column] *= 1 + self.mask[:, column] * (factor - 1)
            return spectra

        return self.with_spectra(change)

    def mended(self, **settings):
        """Return it mended in its area."""
        start, stop, _, _ = self.area.extent
        beside = round(RAMP_SECONDS * self.rate)
        start = max(0, self.at + int(start) - beside)
        stop = min(len(self.wrong), self.at + int(np.ceil(stop)) + beside)
        version = Version.of(as_a_file(self.wrong[:, np.newaxis], self.rate, 32))
        outline = self.area.moved(self.at - start).text
        made = apply_method(version, method_named("area"), {"outline": outline, **settings}, [Place(start, stop, (0,))])
        return made.version.read(0, version.frames)[:, 0].astype(float)

    def clicked(self):
        """Return where a person would click: the loudest cell of the intruder, as a frame and a frequency."""
        intruder = self.wrong - self.right
        levels = np.abs(self.transform.spectra(intruder[self.around]))
        row, column = np.unravel_index(int(levels.argmax()), levels.shape)
        return self.around.start + int(row) * self.transform.hop, float(column * self.rate / self.transform.size)

    def overlaps(self, found):
        """Return the intersection over the union of what was gathered and of the cells that the intruder drowns: all of
        them, and those that hang together with the one that was clicked."""
        right, intruder = (
            np.abs(self.transform.spectra(wave[self.around])) for wave in (self.right, self.wrong - self.right)
        )
        drowned = (intruder > right) & (intruder > intruder.max() * 10 ** (-_HEARD_DB / 20))
        cells = self.transform.cells(len(self.mask) * self.transform.hop, self.rate, self.around.start - found.start)
        got = found.area.covered(cells)[: len(drowned)] > 0.5
        frame, hz = self.clicked()
        seed = (frame - self.around.start) // self.transform.hop, round(hz * self.transform.size / self.rate)
        parts, _ = label(binary_closing(np.pad(drowned, 2), np.ones((5, 3)))[2:-2, 2:-2] | drowned, np.ones((3, 3)))
        part = drowned & (parts == parts[seed])
        return [(truth & got).sum() / max(1, (truth | got).sum()) for truth in (drowned, part)]

    def mended_in(self, found):
        """Return it mended in an area that was gathered."""
        version = Version.of(as_a_file(self.wrong[:, np.newaxis], self.rate, 32))
        place = Place(found.start, found.stop, (0,))
        made = apply_method(version, method_named("area"), settings_of(found.area), [place])
        return made.version.read(0, version.frames)[:, 0].astype(float)


def planted(files, kind, level_db):
    """Yield intruders of a kind over each recording."""
    for path in files:
        sound, rate = clean(path)
        random = np.random.default_rng(crc32(f"{path.name} {kind}".encode()))
        yield Planted(sound.mean(axis=1), rate, kind, level_db, random)


def _print_gathered(files):
    """Print how near one click comes to the true area, and what mending in it gains beside the true one."""
    for kind in (kind for kind in INTRUDERS if kind not in _IN_PARTS):
        overlaps, behind, missed = [], [], 0
        for one in planted(files, kind, 6.0):
            version = Version.of(as_a_file(one.wrong[:, np.newaxis], one.rate, 32))
            found = gathered_at(version, 0, *one.clicked(), Gathering())
            if found is None:
                missed += 1
                continue
            overlaps.append(one.overlaps(found))
            harmonics = sounding_harmonics(version, 0, found.start, found.area)
            found = found._replace(area=replace(found.area, harmonics=harmonics))
            behind.append(one.sdr_db(one.mended(action="rebuild")) - one.sdr_db(one.mended_in(found)))
        whole, part = np.median(overlaps, axis=0)
        print(
            f"gathered by one click, {kind} at +6 dB: overlap with all of it {whole:.2f}, with what hangs together "
            f"{part:.2f}; mended with its harmonics {np.median(behind):.1f} dB behind the true area; nothing gathered "
            f"{missed}"
        )


def _print_alike(files):
    """Print how many beeps of a series are found from one of them."""
    found_count = false = total = 0
    for path in files:
        sound, rate = clean(path)
        sound, random = sound.mean(axis=1), np.random.default_rng(crc32(path.name.encode()))
        one = beep(rate, random)
        seconds = len(sound) // rate
        places = np.sort(random.choice(np.arange(1, seconds - 1), min(6, seconds - 2), replace=False)) * rate
        gain = 10 ** (3 / 20) * np.sqrt(np.mean(sound**2) / np.mean(one**2))
        for at in places:
            sound[at : at + len(one)] += gain * one
        version = Version.of(as_a_file(sound[:, np.newaxis], rate, 32))
        first = int(places[len(places) // 2])
        hz = float(np.abs(np.fft.rfft(one)).argmax() * rate / len(one))
        area = gathered_at(version, 0, first + len(one) // 2, hz, Gathering())
        total += len(places) - 1
        if area is None:
            continue
        for alike in places_alike(version, 0, area.start, area.area):
            is_one = np.abs(places - first - alike.moved).min() < 0.05 * rate
            found_count, false = found_count + is_one, false + (not is_one)
    print(f"more like this: {found_count} of {total} other beeps found, {false} false")


def _print_understood(files):
    """Print how well voices are understood under loud intruders, before and after mending."""
    try:
        from pystoi import stoi
    except ImportError:
        print("how well voices are understood is left out: the package pystoi is not installed")
        return
    for kind in INTRUDERS:
        before, after = [], []
        for one in planted([path for path in files if is_speech(path)], kind, _LEVELS_DB[-1]):
            reach = round(_UNDERSTOOD_SECONDS * one.rate)
            around = slice(max(0, one.at - reach), one.stop + reach)
            made = one.mended(action="rebuild")
            before.append(stoi(one.right[around], one.wrong[around], one.rate))
            after.append(stoi(one.right[around], made[around], one.rate))
        gains = np.array(after) - before
        print(
            f"voices under {kind} at +{_LEVELS_DB[-1]:g} dB: STOI {np.mean(before):.3f}, mended {np.mean(after):.3f}, "
            f"at worst {gains.min():+.3f}"
        )


def run(files: list[Path]) -> None:
    """Measure and print."""
    _print_understood(files)
    _print_alike(files)
    _print_gathered(files)
    for kind in INTRUDERS:
        for level_db in _LEVELS_DB:
            rows = []
            for one in planted(files, kind, level_db):
                before, made, flat, even = (
                    one.sdr_db(one.wrong),
                    one.mended(action="rebuild"),
                    one.lowered(),
                    one.interpolated(),
                )
                rows.append(
                    (
                        one.sdr_db(made) - before,
                        one.sdr_db(one.mended(action="auto")) - before,
                        one.sdr_db(flat) - before,
                        one.sdr_db(even) - before,
                        one.energy_db(made),
                    )
                )
            gain, auto, flat, even, energy = np.array(rows).T
            print(
                f"{kind} ({'tonal' if kind in TONAL else 'not tonal'}) at +{level_db:g} dB: SDR in the area better by "
                f"{gain.mean():.1f} dB (least {gain.min():.1f}); lowered to around {auto.mean():.1f}; as a whole "
                f"{flat.mean():.1f}; even magnitudes {even.mean():.1f}; energy {np.median(energy):+.1f} dB "
                f"({energy.min():+.1f} to {energy.max():+.1f})"
            )
