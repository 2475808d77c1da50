"""Linked recordings: several microphones on one clock, and what is done in one of them done in the others."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from typing import NamedTuple

from umbrick.casebook.joint import Part
from umbrick.casebook.shelf import Link
from umbrick.core.errors import ParameterError
from umbrick.core.linking.clock import Clock
from umbrick.core.linking.stacked import Beside, Stack, stacked
from umbrick.core.mend.applying import Mended, apply_method
from umbrick.core.mend.method import Reworking
from umbrick.core.mend.parameters import Parameters
from umbrick.core.mend.place import Place
from umbrick.core.mend.registry import method_named
from umbrick.core.mend.remedies import Remedy
from umbrick.core.processors import processors
from umbrick.core.timeline.history import Edit, History, Mend
from umbrick.core.timeline.lifting import lift_off, switch_off, switch_on
from umbrick.core.timeline.positions import origin_of_place, place_of_origin
from umbrick.core.timeline.version import Version
from umbrick.work.work import Work


@dataclass(eq=False)
class Lane:
    """A recording of a set, how it lies there, and how it is listened to.

    ``is_ticked`` tells whether what is carried goes to it too.
    """

    work: Work
    clock: Clock
    is_ticked: bool = True
    is_solo: bool = False
    is_muted: bool = False
    is_inverted: bool = False
    gain_db: float = 0.0


class Changing(NamedTuple):
    """Lanes that have sound all over a place, and lanes that begin or end within it."""

    throughout: list[Lane]
    partly: list[Lane]


class JointMend(NamedTuple):
    """What is to be done to each lane, the one that is worked on first."""

    lanes: tuple[Lane, ...]
    mended: tuple[Mended, ...]


@dataclass(eq=False)
class LinkedSet:
    """Lanes on one clock, that of the first."""

    number: int
    lanes: list[Lane] = field(default_factory=list)

    def lane_of(self, work: Work) -> Lane | None:
        """Return the lane of a recording."""
        return next((lane for lane in self.lanes if lane.work is work), None)

    def others(self, work: Work) -> list[Lane]:
        """Return the lanes of all other recordings."""
        return [lane for lane in self.lanes if lane.work is not work]

    def place_in(self, lane: Lane, work: Work, frame: int) -> int:
        """Return where a place of a recording of the set is in another lane; it may lie outside of that one."""
        own = self.lane_of(work)
        if own is None or own is lane:
            return frame
        inside = min(max(0, frame), work.frames)
        origin = origin_of_place(work.version, inside)
        wanted = round(lane.clock.frame_at(own.clock.seconds_at(origin)))
        last = lane.work.history.original.frames
        if 0 <= wanted <= last:
            return place_of_origin(lane.work.version, wanted) + frame - inside
        # Beyond its ends it goes on as this recording does: what was cut here before it begins lies before it.
        end = 0 if wanted < 0 else last
        there = round(own.clock.frame_at(lane.clock.seconds_at(end)))
        within = min(max(0, there), work.history.original.frames)
        ends_at = place_of_origin(work.version, within) + there - within
        return place_of_origin(lane.work.version, end) + frame - ends_at

    def beside(self, work: Work, frame: int, lanes: Iterable[Lane]) -> list[Beside]:
        """Return lanes as they lie beside a recording around a place of it."""
        return [Beside(lane.work.version, self.place_in(lane, work, frame) - frame) for lane in lanes]

    def changing(self, work: Work, place: Place) -> Changing:
        """Return the other lanes whose time must change along with that of a recording at a place: all that have sound
        there. Those that begin later or have ended stay as they are, and stay where they are."""
        there = Changing([], [])
        for lane in self.others(work):
            start, stop = (self.place_in(lane, work, at) for at in (place.start, place.stop))
            if start >= 0 and stop <= lane.work.frames:
                there.throughout.append(lane)
            elif stop > 0 and start < lane.work.frames:
                there.partly.append(lane)
        return there

    def stack_of_those_there(self, work: Work, place: Place) -> tuple[Stack, list[Lane]]:
        """Return a recording with the lanes beside it that have sound at a place, and which these are.

        Raises
        ------
        ParameterError
            If none has.
        """
        middle = (place.start + place.stop) // 2
        there = []
        for lane in self.others(work):
            shift = self.place_in(lane, work, middle) - middle
            if place.start + shift >= 0 and place.stop + shift <= lane.work.frames:
                there.append(lane)
        if not there:
            raise ParameterError("No other recording has sound at this place.")
        return self._stack(work, place, there), there

    def _stack(self, work: Work, place: Place, lanes: Iterable[Lane]) -> Stack:
        """Return a recording with lanes beside it as they lie around a place."""
        return stacked(work.version, self.beside(work, (place.start + place.stop) // 2, lanes))

    def made_in_all(self, work: Work, remedy: Remedy, is_cancelled: Callable[[], bool] = lambda: False) -> JointMend:
        """Return a mend that changes the time as done at once in all lanes that sound there, with seams for each.

        From a lane that begins or ends within what is taken out, its part of that is cut off.

        Raises
        ------
        ParameterError
            If the method cannot do that there; if a lane begins or ends where something else is done than taking out.
        CancelledError
            If ``is_cancelled`` says so.
        """
        changing = self.changing(work, remedy.place)
        stack = self._stack(work, remedy.place, changing.throughout)
        start, stop = remedy.place.start - stack.start, remedy.place.stop - stack.start
        place = Place(start, stop, tuple(range(stack.channels)))
        mended = apply_method(
            Version.of(stack), remedy.method, remedy.settings, [place], is_cancelled=is_cancelled, workers=1
        )
        done = stack.unstacked(mended)
        named = tuple(replace(mend, finding_ids=remedy.place.finding_ids) for mend in done[0].mends)
        lane = self.lane_of(work)
        assert lane is not None
        cut_off = [(one, cut) for one in changing.partly if (cut := self._shortened(one, work, done[0])) is not None]
        return JointMend(
            (lane, *changing.throughout, *(one for one, _ in cut_off)),
            (done[0]._replace(mends=named), *done[1:], *(cut for _, cut in cut_off)),
        )

    def _shortened(self, lane: Lane, work: Work, mended: Mended) -> Mended | None:
        """Return a lane without its part of what a mend of another takes out; None if it has none after all."""
        change = mended.change
        if len(change) != 1 or change.time_shift >= 0:
            raise ParameterError(
                f"{lane.work.name} begins or ends within this place, so its time cannot be changed along with it.",
                "Keep the length here, or choose a place beside it.",
            )
        # Just where within the crossfade one takes it to go on is all the same to a lane that is on one side of it.
        goes_on_at = int(change.starts[0] + change.inserted.lengths.sum() // 2)
        start, stop = (self.place_in(lane, work, at) for at in (goes_on_at, goes_on_at - change.time_shift))
        start, stop = max(0, start), min(stop, lane.work.frames)
        if start == 0 and stop == lane.work.frames:
            raise ParameterError(
                f"All of {lane.work.name} lies within this place, and nothing of it would be left.",
                "Unlink it first, or choose a shorter place.",
            )
        if start >= stop:
            return None
        place = Place(start, stop, tuple(range(lane.work.channels)))
        settings: Parameters = {"search_ms": 0.0, "time": "close"}
        return apply_method(lane.work.version, method_named("splice"), settings, [place], workers=1)

    def parts_of(self, joint: JointMend, title: str) -> list[Part]:
        """Return a joint mend as what is to be written."""
        return [
            Part(lane.work.shelf, lane.work.history, mended.edit(title), mended.version)
            for lane, mended in zip(joint.lanes, joint.mended, strict=True)
        ]

    def joint_parts(self, work: Work, edit: Edit) -> list[Part]:
        """Return what an edit that changes the time of one lane comes to in all of them.

        Raises
        ------
        ParameterError
            If it cannot be done in all of them alike.
        """
        if edit.lifted or edit.switched_off or edit.switched_on:
            return self._turned_in_all(work, edit)
        if len(edit.made) != 1 or len(edit.changes) != 1:
            raise _only_here()
        mend = edit.made[0]
        method = method_named(mend.method)
        if not isinstance(method.does, Reworking):
            raise _only_here()
        place = Place(mend.start, mend.stop, mend.channels, mend.finding_ids)
        joint = self.made_in_all(work, Remedy(method.title, "", method, mend.parameters, place))
        if joint.mended[0].change.time_shift != edit.time_shift:
            raise _only_here()
        return self.parts_of(joint, edit.title)

    def carried_parts(self, work: Work, edit: Edit, progress: Callable[[float], None] = lambda _: None) -> list[Part]:
        """Return the mends of an edit as done at the same places of the other ticked lanes, each on its own sound.

        Raises
        ------
        ParameterError
            If there is no mend that can be carried, or no other lane is ticked.
        """
        lanes = [lane for lane in self.others(work) if lane.is_ticked]
        if not lanes:
            raise ParameterError("No other lane is ticked.", "Tick those that it is to go to.")
        if not edit.made or edit.moves:
            raise ParameterError(
                "There is no mend to carry.", "Mend in one lane first; what changes the time is in all lanes already."
            )
        made: dict[int, Mended | ParameterError] = {}

        def carry(number: int) -> None:
            try:
                made[number] = self._carried(lanes[number], work, edit)
            except ParameterError as error:
                made[number] = error
            progress(len(made) / len(lanes))

        with ThreadPoolExecutor(processors(), "carry") as pool:
            list(pool.map(carry, range(len(lanes))))
        parts, why = [], ""
        for number, lane in enumerate(lanes):
            mended = made[number]
            if isinstance(mended, ParameterError):
                why = why or f"{lane.work.name}: {mended}"
                continue
            title = f"{edit.title}, carried"
            parts.append(Part(lane.work.shelf, lane.work.history, mended.edit(title), mended.version))
        if not parts:
            raise ParameterError(why or "No other lane has sound there.")
        return parts

    def _carried(self, lane: Lane, work: Work, edit: Edit) -> Mended:
        mend = edit.made[0]
        method = method_named(mend.method)
        settings = {
            name: value for name, value in mend.parameters.items() if any(p.name == name for p in method.parameters)
        }
        places = []
        for made in edit.made:
            start, stop = (self.place_in(lane, work, at) for at in (made.start, made.stop))
            start, stop = max(0, start), min(stop, lane.work.frames)
            if start < stop:
                places.append(Place(start, stop, _channels_for(made, work, lane.work)))
        if not places:
            raise ParameterError("it has no sound there.")
        return apply_method(lane.work.version, method, settings, places, workers=1)

    def _turned_in_all(self, work: Work, edit: Edit) -> list[Part]:
        """Return the lifting or switching of mends that were made in all lanes at once, in all of them."""
        named = [*edit.lifted, *edit.switched_off, *edit.switched_on]
        parts = [Part(work.shelf, work.history, edit)]
        is_on = [work.history.entry(name).is_on for name in named]
        for lane in self.others(work):
            history = lane.work.history
            entries = {}
            for name in named:
                own = _counterpart(work.history, history, name)
                if own is not None:
                    entries[own] = history.entry(own)
            if not entries:
                continue  # it had no sound there, and its time was not changed
            if [entry.is_on for entry in entries.values()] != is_on:
                raise _only_here()
            turn = lift_off if edit.lifted else switch_off if edit.switched_off else switch_on
            parts.append(Part(lane.work.shelf, history, turn(history, entries)))
        return parts


def sets_of(works: Sequence[Work], known: Sequence[LinkedSet]) -> list[LinkedSet]:
    """Return the sets that open recordings are lanes of, as the casebook has it; what is known of lanes stays."""
    lanes = {id(lane.work): lane for one in known for lane in one.lanes}
    found: dict[int, LinkedSet] = {}
    for work in works:
        link = work.shelf.link(work.rate)
        if link is None:
            continue
        lane = lanes.get(id(work)) or Lane(work, link.clock)
        lane.clock = link.clock
        found.setdefault(link.number, LinkedSet(link.number)).lanes.append(lane)
    for one in found.values():
        # Whichever was opened first, it is the one that the clocks were measured against.
        measured = (number for number, lane in enumerate(one.lanes) if lane.clock.is_that_of_the_set)
        one.lanes.insert(0, one.lanes.pop(next(measured, 0)))
    return [one for one in found.values() if len(one.lanes) > 1]


def write_links(works: Sequence[Work], clocks: Sequence[Clock], number: int) -> None:
    """Write that recordings are lanes of a set, in one transaction.

    Raises
    ------
    ParameterError
        If they have different rates: a joint edit could not change them by the same time.
    CasebookError
        If it cannot be written.
    """
    rates = {work.rate for work in works}
    if len(rates) > 1:
        raise ParameterError(
            f"These recordings have different rates ({', '.join(f'{rate} Hz' for rate in sorted(rates))}).",
            "Save copies at one rate and link those.",
        )
    with works[0].shelf.store.transaction():
        for work, clock in zip(works, clocks, strict=True):
            work.shelf.write_link(Link(number, clock))


def _counterpart(history: History, other: History, mend_id: str) -> str | None:
    """Return the mend of another lane that was made in one step with a mend of this one."""
    for edit in history.edits:
        for number, mend in enumerate(edit.made):
            if mend.id == mend_id and edit.step:
                its = next((one for one in other.edits if one.step == edit.step), None)
                return its.made[number].id if its is not None and number < len(its.made) else None
    return None


def _channels_for(mend: Mend, work: Work, other: Work) -> tuple[int, ...]:
    """Return a mend's channels in another recording: the same ones if it has as many, else all."""
    return mend.channels if work.channels == other.channels else tuple(range(other.channels))


def _only_here() -> ParameterError:
    return ParameterError(
        "This would change the time of one linked recording and not of the others.",
        "Keep the length here, or unlink it first.",
    )
