"""Soft knees: how much nearer to the truth bent and cut-off sound comes when it is straightened, and where one is seen.

The loudest 1.2 s of each recording, bent from some dB below the rail on and then cut off; told for all that was bent.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np

from benchmarks.corpus import as_a_file, clean, loudest
from benchmarks.declip import gain_db
from benchmarks.planting import clip_to_sdr
from umbrick.core.mend.applying import apply_method
from umbrick.core.mend.declipping.declip import METHOD
from umbrick.core.mend.place import Place
from umbrick.core.mend.remedies import remedies
from umbrick.core.survey.registry import KINDS
from umbrick.core.survey.survey import Surveyor
from umbrick.core.timeline.version import Version

_BENDS = ((0.0, 1.0), (2.0, 2.0), (4.0, 1.7))
"""How far below the rail they begin, in dB, and how many times less steep the sound is there; first none."""

_LOOKS = 12


def _bent(wave, rail, below_db, stretch):
    begins = rail * 10 ** (-below_db / 20)
    over = np.maximum(np.abs(wave) - begins, 0)
    return np.sign(wave) * np.minimum(np.minimum(np.abs(wave), begins) + over / stretch, rail)


def _knees(findings, version):
    """Return the knees that are offered for some of the findings, and how many were asked for one."""
    asked = findings[:: max(1, len(findings) // _LOOKS)]
    offered = [remedy.settings for finding in asked for remedy in remedies(finding, version)]
    return [settings for settings in offered if "knee_db" in settings], len(asked)


def run(files: list[Path]) -> None:
    """Measure and print."""
    print(f"{'':28} bend dB  seen at places     gain on what was bent: cut off alone, straightened")
    for file in files:
        sound, rate = clean(file)
        truth = loudest(sound, rate)
        _, rail = clip_to_sdr(truth, 10)
        for below_db, stretch in _BENDS:
            wave = _bent(truth, rail, below_db, stretch)
            source = as_a_file(wave[:, np.newaxis], rate)
            found = Surveyor(source, 24, [KINDS["clipping"]]).run().sifted({})
            version = Version.of(source)
            knees, asked = _knees(found, version)
            line = f"{file.stem:28} {below_db:7.1f}  {len(knees):2} of {asked:2}"
            if knees and below_db:
                bent = np.abs(wave) >= rail * 10 ** (-below_db / 20)
                places = [Place.of(finding) for finding in found]
                chosen = knees[len(knees) // 2]
                for settings in ({}, chosen):
                    mended = apply_method(version, METHOD, settings, places, workers=1).version
                    made = mended.read(0, mended.frames)[:, 0].astype(np.float64)
                    line += f"   {gain_db(truth, wave, made, bent):6.1f}"
                line += f"   with {chosen['knee_db']:.1f} dB and {chosen['knee_stretch']:.2f} times"
            print(line, flush=True)
