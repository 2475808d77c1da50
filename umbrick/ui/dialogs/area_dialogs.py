"""What the commands for areas ask: a brush, an area by numbers, a length, a name."""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from umbrick.core.areas.area import Area
from umbrick.core.areas.shapes import Box
from umbrick.core.errors import ParameterError
from umbrick.core.units import format_clock, format_length, parse_frames
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.marking import Marking
from umbrick.ui.dialogs.typed_dialog import TypedDialog
from umbrick.ui.hand.outlining import Outlining

_LONGEST_NAME = 200


class AreaDialogs:
    """Asks, and passes on what was answered."""

    def __init__(self, bench: Bench, outlining: Outlining, marking: Marking, parent: QWidget) -> None:
        self._bench = bench
        self._outlining = outlining
        self._marking = marking
        self._parent = parent

    def ask_brush(self) -> None:
        """Ask for the size of the brush."""

        def check(values: list[str]) -> str:
            milliseconds, hz = _number(values[0], "ms"), _number(values[1], "Hz")
            if not (1 <= milliseconds <= 5000 and 5 <= hz <= 20_000):
                raise ParameterError("A brush is 1 to 5000 ms long and 5 to 20000 Hz high.")
            return "How far the brush reaches in time, and in frequency."

        given = [("Length", f"{self._outlining.brush_ms:g} ms"), ("Height", f"{self._outlining.brush_hz:g} Hz")]
        dialog = TypedDialog("Size of the brush", given, check, "Set", parent=self._parent)
        if dialog.exec():
            self._outlining.brush_ms = _number(dialog.values[0], "ms")
            self._outlining.brush_hz = _number(dialog.values[1], "Hz")

    def ask_area(self) -> None:
        """Ask where an area begins and ends, in time and in frequency."""
        work = self._bench.work
        if work is None:
            return
        if work.area is not None:
            start, stop, low, high = work.area.area.extent
        elif work.selection is not None:
            (start, stop), (low, high) = work.selection.span, (0.0, work.rate / 2)
        else:
            start, stop, low, high = work.cursor, work.cursor + work.rate, 1000.0, 2000.0
        rate, frames = work.rate, work.frames

        def parsed(values: list[str]) -> Box:
            first, last = (parse_frames(text, rate) for text in values[:2])
            lower, upper = (_number(text, "Hz") for text in values[2:])
            if not (0 <= first < last <= frames and 0 <= lower < upper):
                raise ParameterError("The area lies outside of the recording, or holds nothing.")
            return Box(first, last, lower, upper)

        def check(values: list[str]) -> str:
            box = parsed(values)
            return f"{format_length(round(box.stop - box.start), rate)}, {box.high_hz - box.low_hz:.0f} Hz high."

        given = [
            ("From", format_clock(max(0, round(start)), rate, 4)),
            ("To", format_clock(min(frames, round(stop)), rate, 4)),
            ("Lowest", f"{low:.0f} Hz"),
            ("Highest", f"{min(high, rate / 2):.0f} Hz"),
        ]
        dialog = TypedDialog("Area", given, check, "Select", parent=self._parent)
        if dialog.exec():
            self._outlining.select(Area.of(parsed(dialog.values)))

    def ask_length(self) -> None:
        """Ask how long the area is to last."""
        work = self._bench.work
        if work is None or work.area is None:
            return
        start, stop, _, _ = work.area.area.extent
        rate, left = work.rate, work.frames - round(start)

        def check(values: list[str]) -> str:
            frames = parse_frames(values[0], rate)
            if not 0 < frames <= left:
                raise ParameterError("The area would go beyond the recording, or have no length.")
            return f"{frames / max(1.0, stop - start):.2f} times as long as now."

        given = [("Length", format_clock(round(stop - start), rate, 4))]
        dialog = TypedDialog("Stretch the area", given, check, "Stretch", parent=self._parent)
        if dialog.exec():
            self._outlining.stretch(parse_frames(dialog.values[0], rate))

    def keep_area(self) -> None:
        """Ask for a name for the area, and keep it."""

        def check(values: list[str]) -> str:
            if not 0 < len(values[0]) <= _LONGEST_NAME:
                raise ParameterError("Give it a name.")
            return "It is kept in the casebook, as a marker. Undo takes it away again."

        dialog = TypedDialog("Keep the area", [("Name", "Area")], check, "Keep", parent=self._parent)
        if dialog.exec():
            self._marking.keep_area(dialog.values[0])

    def reason_not_to_take(self) -> str:
        """Return why no area of a marker can be selected now, or nothing."""
        if self._bench.work is None:
            return "Open a recording first (Ctrl+O)."
        marker = self._marking.marker()
        return "" if marker is not None and marker.area else "Choose a marker that keeps an area first."

    def take_area(self) -> None:
        """Select the area that the chosen marker keeps."""
        if (area := self._marking.kept_area()) is not None:
            self._outlining.select(area)


def _number(text: str, unit: str) -> float:
    try:
        return float(text.replace(",", ".").lower().removesuffix(unit.lower()).strip())
    except ValueError as error:
        raise ParameterError(f"“{text}” is not a number of {unit}.") from error
