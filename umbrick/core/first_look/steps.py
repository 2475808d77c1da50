"""Which steps of the course a first look proposes: against DC, rumble, hum, noise and room; pauses; level."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace

from umbrick.core.course.for_kinds import LAID_FOR
from umbrick.core.course.laid import Ground
from umbrick.core.course.learning import learned, new_step, sound_before
from umbrick.core.course.rehearsal import rehearse_noise
from umbrick.core.course.step import Course, Step, merged
from umbrick.core.errors import ParameterError
from umbrick.core.first_look.proposal import Proposal
from umbrick.core.measure.loudness_line import Levels
from umbrick.core.mend.parameters import Parameters
from umbrick.core.mend.plan import SURE_ENOUGH
from umbrick.core.mend.registry import method_named
from umbrick.core.survey.finding import Finding
from umbrick.core.timeline.positions import map_spans
from umbrick.core.units import SILENCE_DBFS, amplitude_to_db, format_db

_ROOMY_DB, _SOME_ROOM_DB, _LEAST_FALL_DB = -13.5, -18.5, 10.0
"""A room is heard where, at the least, so little has died away after a tenth of a second; and it goes on dying away."""

_LEAST_GAIN_DB = 0.5

_DEAD_DB = 50.0
"""Pauses that far below the loud passages need not be lowered."""

_LULLED_DB = 6.0
_STRETCHES, _STRETCH_SECONDS = 24, 10.0
_SOFT_DBFS, _CLIPPED_DBFS = -12.0, -3.0


@dataclass
class Laying:
    """Lays one step after another in mind: each learns from what those before it leave."""

    ground: Ground
    course: Course
    levels: Levels
    """The loudness line of the sound."""
    progress: Callable[[float], None]
    is_cancelled: Callable[[], bool]
    made: list[Proposal] = field(default_factory=list)

    def measured(self, method: str, settings: Parameters, hears_all: bool = False) -> Step:
        """Return a step over all of it with what it learns; ParameterError if it finds nothing to do.

        Unless it ``hears_all``, it learns from some stretches of a long recording: to have hours go through all steps
        before it would take as long as doing it.
        """
        version = self.ground.version
        channels = tuple(range(version.channels))
        step = new_step(method_named(method), settings, channels, None, self.course)
        spans = None if hears_all else _some_stretches(version.frames, version.rate)
        if spans is not None:
            step = replace(step, spans=merged(map_spans(version, self.ground.original, spans)))
        made = learned(self.ground, self.course, step, self.progress, self.is_cancelled)
        return made if spans is None else replace(made, spans=None)

    def propose(self, title: str, step: Step, settings: Parameters, reason: str, is_advised: bool = True) -> None:
        """Propose a step; those after it are told what it leaves, if it is advised."""
        self.made.append(Proposal(title, reason, is_advised, step.method, settings=settings, step=step))
        if is_advised:
            self.course = (*self.course, step)

    def decline(self, title: str, method: str, settings: Parameters, why: ParameterError) -> None:
        """Tell why a step that seemed wanted cannot be."""
        self.made.append(Proposal(title, why.message, False, method, settings=settings))


def lay_for_faults(laying: Laying, findings: Sequence[Finding], kinds: Sequence[str]) -> None:
    """Propose what takes out DC, rumble or hum, where the survey is sure of them."""
    for kind in kinds:
        found = _surely(findings, kind)
        if found is None:
            continue
        laid = LAID_FOR[kind]
        try:
            step = laying.measured(laid.method, laid.settings, hears_all=True)
        except ParameterError as error:
            laying.decline(laid.words, laid.method, laid.settings, error)
        else:
            laying.propose(laid.words, step, laid.settings, _sentence(found.evidence))


def lay_for_noise(laying: Laying, findings: Sequence[Finding]) -> float | None:
    """Propose to lower noise as far as a rehearsal advises; return by how many dB loud passages are over it then."""
    hiss = _surely(findings, "hiss")
    if hiss is None:
        return None
    laid = LAID_FOR["hiss"]
    try:
        step = laying.measured(laid.method, laid.settings)
    except ParameterError as error:
        laying.decline(laid.words, laid.method, laid.settings, error)
        return None
    sound = sound_before(laying.ground, laying.course, step)
    told = _sentence(hiss.evidence)
    try:
        best = rehearse_noise(sound, step, laying.levels, laying.progress, laying.is_cancelled).advised
    except ParameterError:
        reason = f"{told} There is no pause that shows how far it could be lowered."
        laying.propose(laid.words, step, laid.settings, reason, is_advised=False)
        return None
    settings: Parameters = {"reduction_db": best.reduction_db}
    step = replace(step, settings=step.settings | dict(settings))
    gains = best.gain_db >= _LEAST_GAIN_DB
    how = f"did best in a rehearsal ({best.gain_db:.1f} dB nearer to the truth)" if gains else "gained nothing there"
    laying.propose(laid.words, step, settings, f"{told} {best.reduction_db:g} dB {how}.", is_advised=gains)
    return float(hiss.detail["ratio_db"]) + best.reduction_db if gains else None


def lay_for_room(laying: Laying) -> None:
    """Propose to lower the room, if it is heard clearly, and sound dies away in it as a voice does."""
    settings: Parameters = {"amount": 0.5}
    try:
        step = laying.measured("dereverb", settings)
    except ParameterError:
        return
    early_db, late_db = step.profile["early_db"], step.profile["late_db"]
    if early_db < _SOME_ROOM_DB or early_db - late_db < _LEAST_FALL_DB:
        return
    is_clear = early_db > _ROOMY_DB
    clear = f"A clear room: a tenth of a second after a sound it is just {-early_db:.0f} dB softer."
    reason = clear if is_clear else "There is some room about the sound, and it carries it."
    laying.propose("Lower the room", step, settings, reason, is_advised=is_clear)


def lay_for_pauses(laying: Laying, under_loud_db: float) -> None:
    """Propose to lower the pauses, if their noise is so far under the loud passages and still not far enough."""
    title, settings = "Lower the pauses", {"amount_db": _LULLED_DB}
    try:
        # Pauses are where they are, whatever is done to their noise.
        step = replace(laying, course=()).measured("lull", settings, hears_all=True)
    except ParameterError as error:
        laying.decline(title, "lull", settings, error)
        return
    is_loud = under_loud_db < _DEAD_DB
    loud = f"Even then pauses are just {under_loud_db:.0f} dB under the loud passages."
    reason = loud if is_loud else "Pauses are quiet enough then; lowered further, they would sound dead."
    laying.propose(title, step, settings, reason, is_advised=is_loud)


def lay_for_level(laying: Laying, peak: float, is_clipped: bool) -> None:
    """Propose a level, if peaks pass full scale, may do so once they are rebuilt, or are far below it."""
    peak_dbfs = amplitude_to_db(peak)
    most_dbfs = _CLIPPED_DBFS if is_clipped else 0.0
    if peak_dbfs <= SILENCE_DBFS or _SOFT_DBFS <= peak_dbfs <= most_dbfs:
        return
    settings: Parameters = {"measure": "peak"}
    try:
        step = laying.measured("normalize", settings)
    except ParameterError:
        return
    step = replace(step, profile={**step.profile, "peak": peak_dbfs})
    reason = f"Peaks reach {'just ' if peak_dbfs < _SOFT_DBFS else ''}{format_db(peak_dbfs)}"
    reason += ", and will pass full scale once they are rebuilt." if is_clipped else "."
    laying.propose("Level to a peak", step, settings, reason)


def _some_stretches(frames: int, rate: int) -> list[tuple[int, int]] | None:
    """Return stretches spread evenly over a long recording; None for one that is no longer than they are together."""
    length = round(_STRETCH_SECONDS * rate)
    if frames <= 2 * _STRETCHES * length:
        return None
    apart = (frames - length) / (_STRETCHES - 1)
    return [(round(number * apart), round(number * apart) + length) for number in range(_STRETCHES)]


def _surely(findings: Sequence[Finding], kind: str) -> Finding | None:
    return next((one for one in findings if one.kind == kind and one.confidence >= SURE_ENOUGH), None)


def _sentence(evidence: str) -> str:
    return f"{evidence[:1].upper()}{evidence[1:]}."
