"""What the commands for working by hand ask: values, lengths, a tempo, and the fields of the treatment panel."""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from umbrick.core.errors import ParameterError
from umbrick.core.units import format_clock, format_count, format_length, parse_db, parse_frames
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.listening import Listening
from umbrick.ui.dialogs.typed_dialog import TypedDialog
from umbrick.ui.hand.tools import Tools
from umbrick.ui.panels.context import ContextPanel
from umbrick.ui.strips.loupe import LoupeStrip

_ENDS = [
    ("fade", "Fade both ends"),
    ("loop", "Lead what followed into the start, so that it loops"),
    ("leave", "Leave the ends as they are"),
]


class HandDialogs:
    """Asks, and passes on what was answered."""

    def __init__(self, bench: Bench, tools: Tools, listening: Listening, parent: QWidget) -> None:
        self._bench = bench
        self._tools = tools
        self._listening = listening
        self._parent = parent
        self.panel: ContextPanel | None = None
        """The panel with the fields; it is made after the commands."""
        self.loupe: LoupeStrip | None = None

    def type_selection(self) -> None:
        """Have the keyboard type the selection's start; Tab goes to its end and length."""
        assert self.panel is not None
        self.panel.show()
        self.panel.show_by_hand().focus_start()

    def type_level(self) -> None:
        """Have the keyboard type a level change."""
        assert self.panel is not None
        self.panel.show()
        self.panel.show_by_hand().focus_gain()

    def nudge_by(self) -> float:
        """Return the value that a pixel of the Loupe means."""
        assert self.loupe is not None
        return self.loupe.value_of_a_pixel()

    def ask_value(self) -> None:
        """Ask for a value for the samples that are selected, or for the one at the cursor."""

        def check(values: list[str]) -> str:
            text = values[0].replace("−", "-").replace(",", ".")
            try:
                float(text)
            except ValueError:
                parse_db(values[0])
            return "A sample, such as 0.25, or a level, such as -12 dBFS, which keeps the sign."

        dialog = TypedDialog("Value of the samples", [("Value", "0")], check, "Set", parent=self._parent)
        if dialog.exec():
            try:
                self._tools.drawing.set_value(dialog.values[0])
            except ParameterError as error:
                self._bench.failed.emit(str(error))

    def ask_length(self) -> None:
        """Ask for an exact length, and what is done at its ends."""
        work = self._bench.work
        if work is None:
            return
        start = work.selection.start if work.selection else 0
        tempo = self._tools.selecting.tempo

        def check(values: list[str]) -> str:
            length, fade = parse_frames(values[0], work.rate, tempo), parse_frames(values[1], work.rate)
            if not 0 < length <= work.frames - start:
                raise ParameterError(f"There are {format_length(work.frames - start, work.rate)} from here on.")
            if not 0 <= fade <= length // 2:
                raise ParameterError("The fade is at most half of the length.")
            samples, lasts = format_count(length, "sample"), format_length(length, work.rate)
            return f"From {format_clock(start, work.rate)}: {samples}, {lasts}."

        length = f"{work.selection.stop - start} smp" if work.selection else f"4 beats at {tempo:g}"
        fields = [("Length", length), ("Fade or crossfade", "5 ms")]
        dialog = TypedDialog("Exact length", fields, check, "Cut", _ENDS, self._parent)
        if dialog.exec():
            frames = parse_frames(dialog.values[0], work.rate, tempo)
            fade_ms = 1000 * parse_frames(dialog.values[1], work.rate) / work.rate
            self._tools.handwork.cut_to_length(f"{frames} smp", dialog.choice.currentData(), fade_ms)

    def ask_tempo(self) -> None:
        """Ask for the beats a minute."""

        def check(values: list[str]) -> str:
            return f"One beat lasts {60_000 / _tempo(values[0]):.1f} ms."

        selecting = self._tools.selecting
        fields = [("Beats a minute", f"{selecting.tempo:g}")]
        dialog = TypedDialog("Tempo", fields, check, "Set", parent=self._parent)
        if dialog.exec():
            selecting.set_tempo(_tempo(dialog.values[0]))

    def check_loop(self) -> None:
        """Play the selection, or all, round and round, and lay its seam on the desk."""
        self._tools.seaming.open_loop()
        if not self._listening.loops:
            self._listening.set_loops(True)
        self._listening.play()


def _tempo(text: str) -> float:
    """Return typed beats a minute; ParameterError if they are none."""
    try:
        tempo = float(text.replace(",", "."))
    except ValueError:
        tempo = 0.0
    if not 1 <= tempo <= 1000:
        raise ParameterError("Type a tempo from 1 to 1000 beats a minute.")
    return tempo
