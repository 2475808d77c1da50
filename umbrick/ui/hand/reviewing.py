"""The level review: the parts of a recording side by side, levelled one by one."""

from __future__ import annotations

from bisect import bisect_right
from pathlib import Path

from umbrick.core.measure.parts import Part, measure_steps, parts_as_csv, parts_of, sticking_out
from umbrick.core.mend.place import Place
from umbrick.core.sound.whole_file import write_whole
from umbrick.core.units import format_clock, format_db
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.jobs import Job
from umbrick.ui.bench.task import Task
from umbrick.ui.hand.handwork import Handwork
from umbrick.work.work import Work


class Reviewing(Task):
    """Measures the parts while the review is open, and levels the chosen one by what is proposed."""

    def __init__(self, bench: Bench, handwork: Handwork) -> None:
        super().__init__(bench)
        self._handwork = handwork
        self.is_open = False
        self.parts: list[Part] = []
        self.chosen = -1
        self._measured: tuple[object, ...] | None = None
        bench.recording_changed.connect(self._look)
        bench.edited.connect(self._look)
        bench.findings_changed.connect(self._look)

    def set_open(self, on: bool) -> None:
        """Open or shut the review."""
        self.is_open = on
        self._look()
        self.changed.emit()

    @property
    def part(self) -> Part | None:
        """The chosen part."""
        return self.parts[self.chosen] if 0 <= self.chosen < len(self.parts) else None

    def choose(self, index: int) -> None:
        """Choose a part: the strips go there, and it is selected."""
        work = self._bench.work
        if work is None or not 0 <= index < len(self.parts):
            return
        self.chosen = index
        part = self.parts[index]
        self._bench.select(part.start, part.stop)
        self._bench.set_cursor(part.start)
        self._bench.set_passage(work.passage.showing(part.start, part.stop, work.frames, margin=0.1))
        self.changed.emit()

    def step(self, step: int) -> None:
        """Go to the next (1) or previous (−1) part."""
        if self.parts:
            self.choose(min(max(0, self.chosen + step), len(self.parts) - 1))

    def next_remarkable(self) -> None:
        """Go to the next part for which a change is proposed."""
        order = [(self.chosen + 1 + offset) % len(self.parts) for offset in range(len(self.parts))]
        index = next((index for index in order if self.parts[index].proposed_db), None)
        if index is None:
            self._bench.said.emit("No part is far from the others, and nothing sticks out.")
        else:
            self.choose(index)

    def level(self) -> None:
        """Level the chosen part by what is proposed, with ramps."""
        work, part = self._bench.work, self.part
        if work is None or part is None:
            return
        place = Place(part.start, part.stop, tuple(range(work.channels)))
        settings = {"gain_db": part.proposed_db, "ramp_ms": self._handwork.ramp_ms}
        self._handwork.apply("level", settings, place)

    def reason_not_to_level(self) -> str:
        """Return why the chosen part cannot be levelled now, or nothing."""
        if not self.is_open:
            return "Open the level review first (F4)."
        if self.part is None:
            return "Choose a part first."
        return "" if self.part.proposed_db else "This part is as loud as the others."

    def write(self, path: Path) -> None:
        """Write the parts as a table of notes with times."""
        work = self._bench.work
        if work is None:
            return
        text = parts_as_csv(self.parts, work.rate)
        self._run(
            f"writing {path.name}",
            lambda _: write_whole(path, text.encode(), overwrite=True),
            lambda _: self._bench.said.emit(f"The level review is written: {path}."),
            "The review was not written.",
        )

    def _look(self) -> None:
        work = self._bench.work
        if not self.is_open or work is None:
            self.parts, self.chosen, self._measured = [], -1, None
            return
        now = (work, work.outcome)
        listing = work.listing()
        steps_down = [f.start for f in listing.open_findings("level_step")]
        peaks = [(f.start, f.stop, float(f.detail.get("excess_db", 0.0))) for f in listing.open_findings("peak")]
        key = (*now, tuple(steps_down), tuple(peaks))
        if self._measured == key:
            return
        if self.job:
            self.job.cancel()
        self._measured = key
        version = work.outcome

        def measure(job: Job) -> list[Part]:
            parts = parts_of(measure_steps(version, job.report, job.is_cancelled), steps_down)
            if parts:
                parts += [sticking_out(parts, *peak) for peak in peaks]
            return sorted(parts, key=lambda part: (part.start, part.is_peak))

        self._run("level review", measure, lambda parts: self._take(work, parts), "")

    def _take(self, work: Work, parts: list[Part]) -> None:
        if work is not self._bench.work:
            return
        here = self.part.start if self.part else work.cursor
        self.parts = parts
        self.chosen = max(0, bisect_right([part.start for part in parts], here) - 1) if parts else -1
        self.changed.emit()


def described(part: Part, number: int, rate: int) -> str:
    """Return a part in words."""
    what = "Peak" if part.is_peak else f"Part {number}"
    text = (
        f"{what} · {format_clock(part.start, rate, 1)} to {format_clock(part.stop, rate, 1)} · "
        f"{format_db(part.loudness_lufs, 'LUFS')} · peak {format_db(part.peak_dbfs)}"
    )
    if part.proposed_db:
        change = format_db(part.proposed_db, "dB")
        text += f" · {part.note}: {'+' if part.proposed_db > 0 else ''}{change} proposed"
        reached = part.peak_dbfs + part.proposed_db
        if reached > 0:
            text += f", peaks would reach {format_db(reached)}"
    return text
