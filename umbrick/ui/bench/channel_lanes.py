"""The channels of one recording as lanes of their own, and lanes as the channels of one file."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PySide6.QtCore import Signal

from umbrick.core.course.acting import makes_all_anew
from umbrick.core.errors import UmbrickError
from umbrick.core.linking.clock import Clock
from umbrick.core.linking.stacked import Beside, stacked
from umbrick.core.sound.conversion import ChannelChoice
from umbrick.core.sound.formats import FileFormat
from umbrick.core.sound.part_file import real_target
from umbrick.core.sound.saving import Papers, Saved, format_for, save
from umbrick.core.timeline.version import Version
from umbrick.core.units import format_count, format_length
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.copies import CopyBeside, all_or_none
from umbrick.ui.bench.jobs import Job
from umbrick.ui.bench.linking import Linking
from umbrick.ui.bench.task import Task


class ChannelLanes(Task):
    """Takes a recording of many channels apart into linked ones, and puts linked ones together as one file."""

    written = Signal(object, object)
    """Channels were written that are to be opened: their paths, and what to do then."""

    def __init__(self, bench: Bench, linking: Linking) -> None:
        super().__init__(bench)
        self._linking = linking

    def reason_not_to_split(self) -> str:
        """Return why the current recording cannot be taken apart, or nothing."""
        work = self._bench.work
        if work is None:
            return "Open a recording first (Ctrl+O)."
        if work.channels < 2:
            return "This recording has a single channel."
        return "Channels are being written already." if self.job else ""

    def split(self) -> None:
        """Write each channel of the current recording, as it sounds now, as a file of its own, to be linked."""
        work = self._bench.work
        if work is None:
            return
        channels = work.channels
        copy = CopyBeside(work, made_anew=makes_all_anew(work.history.course))

        def run(job: Job) -> list[Path]:
            with all_or_none() as paths:
                for channel in range(channels):

                    def told(share: float, channel: int = channel) -> None:
                        job.report((channel + share) / channels)

                    only = ChannelChoice("", tuple((float(row == channel),) for row in range(channels)))
                    paths.append(
                        copy.write(str(channel + 1), layout=only, progress=told, is_cancelled=job.is_cancelled)
                    )
            return paths

        def done(paths: list[Path]) -> None:
            self.written.emit(paths, lambda: self._link(paths))

        self._run("writing channels as lanes", run, done, "Stopped; nothing was written.")

    def _link(self, paths: Sequence[Path]) -> None:
        """Link the channels of one recording, which begin at the same sample."""
        works = [work for path in paths if (work := self._bench.find_open(path)) is not None]
        if len(works) < 2:
            return
        self._bench.show_work(works[0])
        if self._linking.link_as(works, [Clock(work.rate) for work in works]):
            self._bench.said.emit(
                f"{format_count(len(works), 'channel')} are lanes now; the file they came from stays."
            )

    def reason_not_to_join(self) -> str:
        """Return why lanes cannot be put together, or nothing."""
        return self._linking.reason_without_set() or ("The lanes are being written already." if self.job else "")

    def join(self, path: Path) -> None:
        """Write what all lanes have in common as one file, with the channels of each after those of the one before."""
        linked, work = self._linking.linked, self._bench.work
        if linked is None or work is None:
            return
        first = linked.lanes[0].work
        if self._bench.find_open(real_target(path)) is not None:
            self._bench.failed.emit(f"{path.name} is open on the bench: give the new file another name.")
            return
        try:
            others = [Beside(lane.work.outcome, linked.place_in(lane, first, 0)) for lane in linked.lanes[1:]]
            stack = stacked(first.outcome, others)
            form: FileFormat = format_for(path, first.recording.format)
        except UmbrickError as error:
            self._bench.failed.emit(str(error))
            return

        works = [lane.work for lane in linked.lanes]
        made_anew = any(
            makes_all_anew(one.history.course) or one.recording.format.bits != first.recording.format.bits
            for one in works
        )

        def run(job: Job) -> Saved:
            return save(
                Version.of(stack), path, form, papers=Papers(first.recording.path),
                origin_format=first.recording.format, made_anew=made_anew, overwrite=True, progress=job.report,
                is_cancelled=job.is_cancelled,
            )  # fmt: skip

        def done(saved: Saved) -> None:
            length = format_length(stack.frames, stack.rate)
            self._bench.said.emit(f"{saved.path.name}: {format_count(stack.channels, 'channel')}, {length}.")

        self._run("writing lanes as one file", run, done, "Stopped; nothing was written.")
