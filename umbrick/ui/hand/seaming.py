"""The seam desk: a cut that is proposed, slid by samples and heard before it is made, or one made earlier."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

from PySide6.QtCore import Signal

from umbrick.core.errors import CancelledError, ParameterError, UmbrickError
from umbrick.core.measure.crossings import Direction, crossings
from umbrick.core.measure.jumps import OwnJumps, SeamReading
from umbrick.core.mend.applying import Mended, apply_method, as_mended
from umbrick.core.mend.cutting import splice
from umbrick.core.mend.cutting.crossfade import AUTO
from umbrick.core.mend.cutting.seams import Seam, fade_reach, measured
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import method_named
from umbrick.core.timeline.history import Edit, Entry
from umbrick.core.timeline.lifting import Rebuilt, made_again, span_of, without
from umbrick.core.timeline.version import Version
from umbrick.core.units import format_length
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job
from umbrick.ui.bench.task import Task
from umbrick.ui.bench.trying import Trial, Trying
from umbrick.ui.hand.handwork import Handwork
from umbrick.work.work import Work

LOOP = "loop"
_LONGEST_SLIDE_SECONDS = 2.0


@dataclass
class Desk:
    """What lies on the seam desk: a place, the version it is cut in, the seams proposed, and the one as it is now.

    ``entry`` is the ledger's line that is worked on anew, if the cut has been made already. ``kind`` is ``cut`` or
    ``loop``. Positions are frames of ``version``.
    """

    work: Work
    base: Version
    version: Version
    place: Place
    own: OwnJumps
    proposals: list[Seam]
    seam: Seam
    settings: dict[str, Any]
    kind: str = "cut"
    entry: Entry | None = None
    slid: int = 0
    chosen: int | None = 0
    fades_tail: bool = False
    """Whether a loop's tail is faded instead of crossfaded into its start."""
    filling: tuple[object, Mended | UmbrickError] | None = field(default=None)
    """What keeps the length, or why nothing does, by the crossfade it was looked for with."""
    mended: Mended | None = field(default=None)
    after: SeamReading | None = field(default=None)
    """How the seam of a loop measures once it is mended; what is in ``seam`` is as it is now."""
    problem: str = ""

    @property
    def rate(self) -> int:
        """Frames a second."""
        return self.version.rate

    @property
    def time(self) -> str:
        """What is done to time."""
        return str(self.settings["time"])


class Seaming(Task):
    """Opens the desk, changes what is on it, and makes the cut."""

    desk_changed = Signal()

    def __init__(self, bench: Bench, handwork: Handwork, trying: Trying) -> None:
        super().__init__(bench)
        self._handwork = handwork
        self._trying = trying
        self.desk: Desk | None = None
        bench.recording_changed.connect(self.leave)
        bench.edited.connect(self._follow)

    def reason_against(self) -> str:
        """Return why the desk cannot be opened now, or nothing."""
        return self._handwork.reason_against()

    def open(self) -> None:
        """Open the desk on the selection, or on the finding in focus; close it if it is open."""
        work = self._bench.work
        if self.desk is not None:
            self.leave()
        elif work and (place := work.place()):
            self._lay(work, work.version, place, _defaults(), "cut", None)

    def open_loop(self) -> None:
        """Open the desk on the seam of the selection, or of the whole recording, played round."""
        if work := self._bench.work:
            place = work.place() if work.selection else Place(0, work.frames, tuple(range(work.channels)))
            assert place is not None
            self._lay(work, work.version, place, _defaults() | {"seam": LOOP}, LOOP, None)

    def open_entry(self, work: Work, entry: Entry) -> None:
        """Open the desk on a cut made earlier."""
        span = span_of(work.version, entry)
        if span is None:
            self._bench.failed.emit("The sound there has changed since. Undo to go back.")
            return
        try:
            version = without(work.history, [entry.mend.id])
        except UmbrickError as error:
            self._bench.failed.emit(str(error))
            return
        length = entry.mend.stop - entry.mend.start
        place = Place(span[0], span[0] + length, entry.mend.channels, entry.mend.finding_ids)
        settings = method_named("splice").checked(entry.mend.parameters)
        self._lay(work, version, place, settings, "cut", entry)

    @property
    def holds(self) -> bool:
        """Whether a cut lies on the desk."""
        return self.desk is not None

    @property
    def proposals_count(self) -> int:
        """How many seams are proposed."""
        return len(self.desk.proposals) if self.desk is not None else 0

    def lift(self, steps: int) -> None:
        """A cut has no level."""

    def leave(self) -> None:
        """Clear the desk; nothing changes."""
        if self.desk is not None:
            self.desk = None
            self._trying.end()
            self.desk_changed.emit()

    def _lay(
        self, work: Work, version: Version, place: Place, settings: dict[str, Any], kind: str, entry: Entry | None
    ) -> None:
        base = work.version

        def look(_: Job) -> Desk:
            if kind == LOOP:
                # The end is joined to the start: what is heard is the cut from the end back to the start.
                own = OwnJumps(version, place.start, place.start)
                seam = measured(version, place.stop, place.start, 0, "s", own)
                return Desk(work, base, version, place, own, [], seam, settings, kind, entry, chosen=None)
            own = OwnJumps(version, place.start, place.stop)
            search = settings | ({"search_ms": splice.SEARCH_MS, "crossfade_ms": AUTO, "curve": AUTO} if entry else {})
            proposals = splice.proposed(version, place, search)
            seam = proposals[0]
            if entry is not None:
                exact = settings | {"search_ms": 0.0}
                seam = splice.proposed(version, place, exact)[0]
            chosen = None if entry else 0
            return Desk(work, base, version, place, own, proposals, seam, settings, kind, entry, chosen=chosen)

        self._run("looking for seams", look, self._laid, "")

    def _laid(self, desk: Desk) -> None:
        if desk.base is desk.work.version and desk.work is self._bench.work:
            self.desk = desk
            seam, passage = desk.seam, desk.work.passage
            if desk.kind != LOOP:
                self._bench.set_passage(passage.showing(min(seam.out, seam.into), seam.into, desk.work.frames))
            self._tell()

    # What can be done on it.

    def pick(self, number: int) -> None:
        """Take one of the seams proposed, counted from 0."""
        desk = self.desk
        if desk and number < len(desk.proposals):
            desk.seam, desk.slid, desk.chosen = desk.proposals[number], 0, number
            self._tell()

    def slide(self, frames: int) -> None:
        """Slide the incoming side by frames; positive lets it begin later."""
        desk = self.desk
        if desk is None:
            return
        if desk.kind == LOOP:
            self._bench.said.emit("A loop begins and ends at the edges of its selection: move those.")
            return
        limit = round(_LONGEST_SLIDE_SECONDS * desk.rate)
        into = desk.seam.into + frames
        if not 0 <= into <= desk.version.frames or abs(desk.slid + frames) > limit:
            self._bench.said.emit("It cannot be slid further.")
            return
        desk.slid += frames
        self._put(replace(desk.seam, into=into))

    def slide_to_match(self, step: int) -> None:
        """Slide the incoming side to its next zero crossing in the direction of the outgoing side's."""
        desk = self.desk
        if desk is None:
            return
        channel = desk.place.channels[0]
        out, into = desk.seam.out, desk.seam.into
        pair = desk.version.read(max(0, out - 1), min(out + 1, desk.version.frames))[:, channel]
        direction = Direction.RISING if len(pair) < 2 or pair[1] >= pair[0] else Direction.FALLING
        reach = desk.rate // 10
        first, last = max(0, into - reach), min(desk.version.frames, into + reach)
        found = first + crossings(desk.version.read(first, last)[:, channel], direction)
        beyond = found[found > into] if step > 0 else found[found < into]
        if len(beyond):
            self.slide(int(beyond[0] if step > 0 else beyond[-1]) - into)
        else:
            self._bench.said.emit("There is no matching zero crossing within a tenth of a second.")

    def set_crossfade(self, milliseconds: float) -> None:
        """Set the crossfade's length."""
        if desk := self.desk:
            if not 0 <= milliseconds <= 2000:
                raise ParameterError("A crossfade is from 0 to 2000 ms long.")
            desk.settings["crossfade_ms"] = milliseconds
            if desk.kind == LOOP:
                self._tell()
                return
            self._put(replace(desk.seam, fade=round(milliseconds * desk.rate / 1000)))

    def set_curve(self, shape: str) -> None:
        """Set the crossfade's shape; ``auto`` chooses by how alike both sides are."""
        if desk := self.desk:
            desk.settings["curve"] = shape
            if desk.kind == LOOP:
                self._tell()
                return
            self._put(replace(desk.seam, shape=shape))

    def set_time(self, time: str) -> None:
        """Choose what is done to time."""
        if desk := self.desk:
            desk.settings["time"] = time
            self._tell()

    def set_fades_tail(self, fades: bool) -> None:
        """Fade a loop's tail, or crossfade it into the start."""
        if desk := self.desk:
            desk.fades_tail = fades
            self._tell()

    def take(self) -> None:
        """Make the cut as it is on the desk."""
        desk = self.desk
        if desk is None:
            return
        if desk.mended is None:
            self._bench.failed.emit(desk.problem or "This cut cannot be made.")
            return
        mended, work, entry = desk.mended, desk.work, desk.entry
        self.desk = None
        self._trying.end()
        self.desk_changed.emit()
        if entry is None:
            done = self._handwork.put(work, "loop seam" if desk.kind == LOOP else "splice", mended)
        else:
            edit: Edit = made_again(work.history, entry.mend.id, lambda _: Rebuilt(mended.change, mended.mends[0]))
            done = self._bench.commit(work, edit) is not None
        if done:
            self._handwork.look_at_mend(work, mended)

    # How it is shown and heard.

    def _put(self, seam: Seam) -> None:
        """Lay a changed seam on the desk, measured anew."""
        desk = self.desk
        assert desk is not None
        found = measured(desk.version, seam.out, seam.into, seam.fade, str(desk.settings["curve"]), desk.own)
        desk.seam, desk.chosen = found, None
        self._tell()

    def _tell(self) -> None:
        desk = self.desk
        if desk is None:
            return
        desk.problem, desk.mended, desk.after = "", None, None
        try:
            desk.mended = self._mended(desk)
            if desk.kind == LOOP:
                start, stop = self._heard(desk)
                desk.after = measured(desk.mended.version, stop, start, 0, "s", desk.own).reading
        except UmbrickError as error:
            desk.problem = str(error)
        if desk.mended is not None:
            self._trying.show(
                Trial(desk.base, desk.mended.version, desk.mended.peak, shows=False, seam=self._heard(desk))
            )
        else:
            self._trying.end()
        self.desk_changed.emit()

    def _mended(self, desk: Desk) -> Mended:
        method = method_named("splice")
        seam = desk.seam
        if desk.kind == LOOP:
            if desk.fades_tail:
                length = min(splice.fade_frames(desk.settings, desk.rate), desk.place.stop - desk.place.start)
                tail = desk.place._replace(start=desk.place.stop - max(1, length))
                return apply_method(desk.version, method_named("fade"), {"direction": "out"}, [tail])
            return apply_method(desk.version, method, desk.settings, [desk.place])
        if seam.out > seam.into:
            raise ParameterError("The incoming side would begin before the outgoing one ends.", "Slide it on.")
        if desk.time == "keep":
            # The filling is the same wherever a cut would be.
            key = desk.settings["crossfade_ms"]
            if desk.filling is None or desk.filling[0] != key:
                self._look_for_filling(desk, key)
                raise ParameterError("Looking for a filling…")
            if isinstance(desk.filling[1], UmbrickError):
                raise desk.filling[1]
            return desk.filling[1]
        return as_mended(desk.version, method.name, [splice.cut(desk.version, desk.place, seam, desk.settings)])

    def _look_for_filling(self, desk: Desk, key: object) -> None:
        """Have a filling of the place made beside the window: it may look through all of the recording."""
        if self.job is not None:
            return  # it is asked for again when that has ended
        settings = desk.settings | {"search_ms": 0.0}

        def look(job: Job) -> Mended | UmbrickError:
            try:
                return apply_method(
                    desk.version, method_named("splice"), settings, [desk.place], is_cancelled=job.is_cancelled
                )
            except CancelledError:
                raise
            except UmbrickError as error:
                return error

        def found(filling: Mended | UmbrickError) -> None:
            desk.filling = key, filling

        def ended() -> None:
            if self.desk is desk:
                self._tell()

        self._run("looking for a filling", look, found, "").ended.connect(ended)

    @staticmethod
    def _heard(desk: Desk) -> tuple[int, int]:
        """Return the span of the version as it would be that the loop goes round."""
        if desk.kind == LOOP:
            shift = desk.mended.mends[0].time_shift if desk.mended else 0
            return desk.place.start, desk.place.stop + shift
        before, after = fade_reach(desk.version.frames, desk.seam.out, desk.seam.into, desk.seam.fade)
        if desk.time == "keep":
            return desk.place.start, desk.place.stop
        return desk.seam.out - before, desk.seam.out + after

    def effect(self) -> str:
        """Return what the cut would do to time, in words."""
        desk = self.desk
        if desk is None or desk.mended is None:
            return desk.problem if desk else ""
        length = format_length(desk.seam.removed, desk.rate)
        if desk.kind == LOOP:
            shift = -desk.mended.mends[0].time_shift
            return f"the loop becomes {format_length(shift, desk.rate)} shorter" if shift else "the length stays"
        return {
            "close": f"everything after comes {length} earlier",
            "keep": "filled from beside, nothing moves",
            "payback": f"{length} of room tone in the next pause, sync kept after it",
        }[desk.time]

    def _follow(self) -> None:
        if self.desk is not None and self.desk.base is not self.desk.work.version:
            self.leave()


def _defaults() -> dict[str, Any]:
    return dict(method_named("splice").checked({}))
