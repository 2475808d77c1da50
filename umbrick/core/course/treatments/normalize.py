"""Level to target: one gain, so that peak, true peak or loudness is what is wanted."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from umbrick.core.course.step import Profile
from umbrick.core.course.treatment import COMMON, Block, Treatment
from umbrick.core.errors import ParameterError
from umbrick.core.filters.zero_phase import Wave
from umbrick.core.measure.levels import LevelMeter
from umbrick.core.measure.loudness import LoudnessMeter
from umbrick.core.mend.method import Method
from umbrick.core.mend.parameters import Parameter, Parameters
from umbrick.core.sound.blocks import blocks_of
from umbrick.core.sound.source import Source
from umbrick.core.units import SILENCE_DBFS, amplitude_to_db, db_to_amplitude

AUTO = "auto"
USUAL = {"peak": -1.0, "true_peak": -1.0, "loudness": -23.0}
"""Targets where none is given: dBFS, dBTP, and LUFS (EBU R 128, 2020)."""

_UNITS = {"peak": "dBFS", "true_peak": "dBTP", "loudness": "LUFS"}

_BLOCK_FRAMES = 1 << 17


def learn(
    sound: Source,
    spans: Sequence[tuple[int, int]],
    channels: Sequence[int],
    settings: Parameters,
    progress: Callable[[float], None],
    is_cancelled: Callable[[], bool],
) -> Profile:
    """Return peak, true peak and loudness (Recommendation ITU-R BS.1770-4, 2015)."""
    levels, loudness = LevelMeter(sound.rate, len(channels)), LoudnessMeter(sound.rate, len(channels))
    for start, stop in blocks_of(spans, _BLOCK_FRAMES, progress, is_cancelled):
        block = sound.read(start, stop)[:, list(channels)]
        levels.feed(block)
        loudness.feed(block)
    if levels.peak == 0:
        raise ParameterError("There is nothing but silence to level.")
    return {
        "peak": amplitude_to_db(levels.peak),
        "true_peak": amplitude_to_db(levels.true_peak),
        "loudness": loudness.integrated_lufs(),
    }


def is_profile(profile: Profile, channels: int) -> bool:
    """Return whether this is a level for each measure."""
    return set(profile) == set(USUAL) and all(type(level_db) is float for level_db in profile.values())


def gain_db(settings: Parameters, profile: Profile) -> float:
    """Return the gain that brings what was measured to the target; 0 where it is too short for a loudness."""
    measure = str(settings["measure"])
    measured = float(profile[measure])
    if measured <= SILENCE_DBFS:
        return 0.0
    target = settings["target"]
    return (USUAL[measure] if target == AUTO else float(target)) - measured


def told(settings: Parameters, profile: Profile) -> str:
    """Return the target, and the gain that brings the sound to it."""
    measure = str(settings["measure"])
    target = USUAL[measure] if settings["target"] == AUTO else float(settings["target"])
    gain = f" ({gain_db(settings, profile):+.1f} dB)" if profile else ""
    return f"Level to {target:g} {_UNITS[measure]}{gain}".replace("-", "−")


def process(block: Block, settings: Parameters, profile: Profile) -> Wave:
    """Return a block with its level changed."""
    return block.own * db_to_amplitude(gain_db(settings, profile))


METHOD = Method(
    name="normalize",
    title="Level to target",
    summary="Changes the level of all of it by one gain, to a peak, true peak or loudness.",
    parameters=(
        Parameter("measure", "choice", "peak", "what is brought to the target", ("peak", "true_peak", "loudness")),
        Parameter("target", "number", AUTO, "in dBFS, dBTP or LUFS; auto is −1, −1 or −23", (AUTO,), "dB", -60.0, 20.0),
        *COMMON,
    ),
    does=Treatment(
        process,
        lambda *_: 0,
        lambda settings, profile: bool(profile) and gain_db(settings, profile) == 0,
        told,
        learn,
        is_profile,
        is_quick=True,
    ),
)
