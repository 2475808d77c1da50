"""Lull: the pauses between phrases are lowered, by ramps that lie in them."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from umbrick.core.course.step import RAMP_MS, Profile
from umbrick.core.course.treatment import COMMON, Block, Treatment, Wave
from umbrick.core.errors import ParameterError
from umbrick.core.measure.pauses import PauseRule, all_pauses
from umbrick.core.mend.method import Method
from umbrick.core.mend.parameters import Parameter, Parameters
from umbrick.core.sound.source import Source
from umbrick.core.units import db_to_amplitude

_AFTER_A_WORD_SECONDS, _BEFORE_A_WORD_SECONDS = 0.1, 0.06
"""A word dies away before the next pause begins, and its first consonant is softer than its vowel."""

_BREATH_DB = 10.0
"""How much louder a pause may be where breaths are lowered too."""


def process(block: Block, settings: Parameters, profile: Profile) -> Wave:
    """Return a block at the level of a pause."""
    return block.own * db_to_amplitude(-float(settings["amount_db"]))


def places(
    sound: Source,
    spans: Sequence[tuple[int, int]],
    settings: Parameters,
    progress: Callable[[float], None],
    is_cancelled: Callable[[], bool],
) -> list[tuple[int, int]]:
    """Return the pauses of a sound that lie in some spans.

    ParameterError if there is none.
    """
    extra_db = _BREATH_DB if settings["breaths"] == "lower" else 0.0
    rule = PauseRule(
        margin_db=float(settings["threshold_db"]) + extra_db,
        after_seconds=_AFTER_A_WORD_SECONDS,
        before_seconds=_BEFORE_A_WORD_SECONDS,
    )
    least = float(settings["shortest_ms"]) * sound.rate / 1000
    found = [
        (max(start, low), min(stop, high))
        for start, stop in all_pauses(sound, progress, is_cancelled, rule)
        for low, high in spans
        if start < high and stop > low
    ]
    found = [(start, stop) for start, stop in found if stop - start >= least]
    if not found:
        raise ParameterError("There is no pause here that is so long.", "Try a shorter one, or a higher threshold.")
    return found


def told(settings: Parameters, profile: Profile) -> str:
    """Return by how much pauses are lowered."""
    return f"Pauses −{float(settings['amount_db']):g} dB"


METHOD = Method(
    name="lull",
    title="Lull",
    summary="Finds the pauses between phrases and lowers them, without touching words.",
    parameters=(
        Parameter("amount_db", "number", 12.0, "by how much pauses are lowered", (), "dB", 0.0, 60.0),
        Parameter("threshold_db", "number", 6.0, "how far over the noise floor a pause may be", (), "dB", 1.0, 30.0),
        Parameter("shortest_ms", "number", 180.0, "the shortest pause that is lowered", (), "ms", 50.0, 10_000.0),
        Parameter("breaths", "choice", "keep", "whether breaths are lowered with the pauses", ("keep", "lower")),
        Parameter(RAMP_MS, "number", 60.0, "how long the level takes to fall and rise, inside a pause", (), "ms", 0.0,
                  1e4),
        *(parameter for parameter in COMMON if parameter.name != RAMP_MS),
    ),
    does=Treatment(
        process,
        lambda *_: 0,
        lambda settings, _: float(settings["amount_db"]) == 0,
        told,
        places=places,
        measured_by=("threshold_db", "shortest_ms", "breaths"),
        is_quick=True,
    ),
)  # fmt: skip
