"""What is done to a recording without a window: by a plan, by one method at places, or by a regimen.

Command line, batches and Python all do this and nothing else, so that all of them come to the same samples.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from umbrick.core.course.acting import makes_all_anew, treatment_of
from umbrick.core.course.ahead import highest_sample, read_ahead
from umbrick.core.course.laid import Ground
from umbrick.core.course.learning import learned, new_step
from umbrick.core.course.step import Course
from umbrick.core.course.tiles import Tiles
from umbrick.core.errors import ParameterError
from umbrick.core.measure.headroom import fitting_gain_db
from umbrick.core.mend.method import Method, Rebuilding
from umbrick.core.mend.place import Place
from umbrick.core.mend.plan import SURE_ENOUGH, Batch, Plan, carried_out, run
from umbrick.core.regimen.regimen import Regimen
from umbrick.core.regimen.running import Ran, run_regimen
from umbrick.core.report.facts import done_in_words
from umbrick.core.sound.formats import FileFormat
from umbrick.core.sound.recording import Recording
from umbrick.core.sound.saving import Papers, Saved, save
from umbrick.core.survey.finding import Finding, State
from umbrick.core.timeline.history import Mend
from umbrick.core.timeline.version import Version
from umbrick.core.units import format_clock, format_count

UNASKED = ("clipping", "click", "mouth_click", "crackle", "dropout", "discontinuity")
"""Kinds that are mended if none are named: damage, not taste, and by nothing that changes the length."""

_SHORT_SECONDS = 0.02
"""A span no longer than this, in which the survey found nothing, is taken for damaged as a whole."""

Progress = Callable[[float], None]


def no_progress(share: float) -> None:
    """Tell nobody."""


@dataclass(frozen=True)
class Done:
    """What was done: the mended version, its mends, the course laid over it, and the highest sample of the outcome.

    ``told`` says in sentences what was left as it is, and why. ``ran`` is what became of a regimen, if it was one.
    """

    version: Version
    mends: tuple[Mend, ...]
    peak: float
    course: Course = ()
    outcome: Version | None = None
    told: tuple[str, ...] = ()
    ran: Ran | None = None

    @property
    def sound(self) -> Version:
        """What is heard and saved."""
        return self.outcome or self.version

    @property
    def count(self) -> int:
        """How many things were done."""
        return len(self.mends) + len(self.course)

    @property
    def states(self) -> dict[str, State]:
        """What has become of findings, by their ids; those that are not named are open."""
        return {finding_id: State.MENDED for mend in self.mends for finding_id in mend.finding_ids}

    def gain_db(self, form: FileFormat, ceiling_dbfs: float | None) -> float:
        """Return the level change on saving: to a ceiling, or so that nothing is cut off in fixed point."""
        if ceiling_dbfs is not None:
            return fitting_gain_db(self.peak, ceiling_dbfs)
        return fitting_gain_db(self.peak) if form.is_fixed_point and self.count else 0.0


def by_plan(
    original: Version, plan: Plan, findings: Sequence[Finding], peak: float, progress: Progress = no_progress
) -> Done:
    """Return a recording mended by a plan; ``findings`` is all that is known of it, ``peak`` its highest sample."""
    done = run(original, plan, findings, progress)
    told = []
    if done.better_left:
        told.append(f"{format_count(done.better_left, 'finding')} better left as found: a mend would hardly gain.")
    told += [f"{format_clock(place.start, original.rate)} was left as it is: {why}" for place, why in done.refused]
    if done.made_of:
        told.append(f"{format_count(done.made_of, 'click')} left: this sound is made of them; --kinds click.")
    return Done(done.version, done.mends, max(peak, done.peak), told=tuple(told))


def sure_enough(findings: Sequence[Finding], asked: Mapping[str, float]) -> tuple[list[Finding], int]:
    """Return the findings that are mended although no one named their kinds, and how many are left for that."""
    chosen = [f for f in findings if f.kind in UNASKED and (f.confidence >= SURE_ENOUGH or f.kind in asked)]
    return chosen, sum(finding.kind in UNASKED for finding in findings) - len(chosen)


def by_method(
    original: Version, batch: Batch, findings: Sequence[Finding], peak: float, progress: Progress = no_progress
) -> Done:
    """Return a recording with a method applied; a place that cannot be mended is an error.

    Raises
    ------
    ParameterError
        The reason why a place cannot be mended so.
    """
    mended, refused = carried_out(original, [batch], findings, progress)
    for _, why in refused:
        raise why
    if mended is None:
        return Done(original, (), peak)
    return Done(mended.version, mended.mends, max(peak, mended.peak))


def by_treatment(
    original: Version,
    method: Method,
    parameters: dict[str, Any],
    places: Sequence[Place],
    measures_peak: bool,
    measuring: Progress = no_progress,
    treating: Progress = no_progress,
) -> Done:
    """Return a recording with a treatment laid over it, at places or over all of it."""
    spans = [(place.start, place.stop) for place in places]
    is_all = spans == [(0, original.frames)]
    ground = Ground(original, original, Tiles())
    step = new_step(method, parameters, places[0].channels, None if is_all else spans, ())
    if treatment_of(step).measures:
        step = learned(ground, (), step, measuring)
    outcome = ground.through((step,))
    peak = highest_sample(outcome, treating) if measures_peak else 0.0
    return Done(original, (), peak, (step,), outcome)


def by_regimen(
    original: Version, regimen: Regimen, findings: Sequence[Finding], peak: float, progress: Progress = no_progress
) -> Done:
    """Return a recording with a regimen run on it."""
    ground = Ground(original, original, Tiles())
    ran = run_regimen(ground, regimen, findings, lambda share: progress(0.7 * share))
    outcome = Ground(ran.mended.version, original, ground.tiles).through(ran.course)
    highest = max(peak, ran.mended.peak)
    if ran.course:
        highest = highest_sample(outcome, lambda share: progress(0.7 + 0.3 * share))
    told = [f"{format_clock(place.start, original.rate)} was left as it is: {why}" for place, why in ran.mended.refused]
    told += [f"Declined: {reason}" for reason in ran.declined]
    if ran.doubtful:
        told.append(f"{format_count(len(ran.doubtful), 'doubtful finding')} left for a human ear.")
    return Done(ran.mended.version, ran.mended.mends, highest, ran.course, outcome, tuple(told), ran)


def places_for(
    places: list[Place], findings: Sequence[Finding], method: Method, parameters: dict[str, Any], rate: int
) -> list[Place]:
    """Return places as a method takes them: declipping wants just the clipped samples in them.

    Raises
    ------
    ParameterError
        If the survey found none there.
    """
    wants_marks = isinstance(method.does, Rebuilding) and method.does.wants_marks
    if not wants_marks or parameters.get("rail_dbfs", "auto") != "auto":
        return places
    chosen = []
    for place in places:
        inside = [
            Place(max(f.start, place.start), min(f.stop, place.stop), channels, (f.id,))
            for f in findings
            if f.kind in method.minds and f.start < place.stop and f.stop > place.start
            if (channels := tuple(sorted(set(f.channels) & set(place.channels))))
        ]
        if not inside and place.stop - place.start <= _SHORT_SECONDS * rate:
            inside = [place]
        chosen += inside
    if not chosen:
        raise ParameterError(
            "The survey found nothing to mend there.", "Give the level the sound was cut off at: --set rail_dbfs=-1."
        )
    return chosen


def write(recording: Recording, done: Done, target: Any, form: FileFormat, gain_db: float, **options: Any) -> Saved:
    """Save what was done to a recording, with its tags, chunks, and, of a video, everything beside its sound.

    ``options`` are those of :func:`umbrick.core.sound.saving.save`.
    """
    track = recording.track if form.has_tracks else None
    moved_by = done.version.frames - recording.source.frames
    words = done_in_words(done.mends, done.course)
    with read_ahead(done.sound) as sound:
        return save(
            sound,
            target,
            form,
            papers=Papers(recording.path, done=words, track=track, moved_by=moved_by),
            origin_format=recording.format,
            gain_db=gain_db,
            made_anew=makes_all_anew(done.course),
            **options,
        )
