"""The commands for selecting and for working by hand."""

from __future__ import annotations

from collections.abc import Callable

from umbrick.ui.bench.bench import Bench
from umbrick.ui.commands.command import Command
from umbrick.ui.dialogs.hand_dialogs import HandDialogs
from umbrick.ui.hand.tools import Tools

_COARSE = 10


def selection_commands(bench: Bench, tools: Tools, dialogs: HandDialogs) -> list[Command]:
    """Return the commands of the menu for selecting."""
    selecting = tools.selecting

    def nothing_open() -> str:
        return "" if bench.work else "Open a recording first (Ctrl+O)."

    def no_selection() -> str:
        return nothing_open() or (
            "" if bench.work and bench.work.selection else "Select something first: drag in the Passage or the Loupe."
        )

    def one_channel() -> str:
        return nothing_open() or ("" if bench.work and bench.work.channels > 1 else "The recording has one channel.")

    def edge(move: Callable[[int], None], step: int) -> Callable[[], None]:
        return lambda: move(step)

    menu = "Selecti&on"
    return [
        Command("select_all", menu, "Everything", "Select the whole recording", selecting.select_all, ("Ctrl+A",), nothing_open),
        Command("clear", menu, "Nothing", "Clear the selection", lambda: bench.select(0, 0), ("Ctrl+D",), no_selection),
        Command("type_selection", menu, "Type start, end or length", "Type where the selection is, with units or in beats",
                dialogs.type_selection, ("G",), nothing_open),
        Command("selected_channels", menu, "Next channel only", "Select on all channels, or on one of them",
                selecting.next_channels, ("Shift+C",), one_channel),
        Command("snap", menu, "Snap to…", "Edges snap to nothing, to zero crossings, or to markers; Ctrl turns it off while dragging",
                selecting.next_snap, ("Q",), nothing_open, separated=True),
        Command("crossing_kind", menu, "Zero crossings: either, rising, falling", "Which zero crossings are meant",
                selecting.next_crossing_kind, ("Alt+Z",), nothing_open),
        Command("other_edge", menu, "The other edge", "Have the keys move the selection's other edge",
                selecting.other_edge, ("A",), no_selection, separated=True),
        Command("edge_left", menu, "Edge one sample back", "Move the edge, or the cursor, by a sample",
                edge(selecting.step, -1), ("Alt+Left",), nothing_open),
        Command("edge_right", menu, "Edge one sample on", "Move the edge, or the cursor, by a sample",
                edge(selecting.step, 1), ("Alt+Right",), nothing_open),
        Command("cycle_back", menu, "Edge one wave cycle back", "Move the edge by one cycle of the wave",
                edge(selecting.cycle, -1), ("Alt+Down",), nothing_open),
        Command("cycle_on", menu, "Edge one wave cycle on", "Move the edge by one cycle of the wave",
                edge(selecting.cycle, 1), ("Alt+Up",), nothing_open),
        Command("crossing_on", menu, "Edge to the next zero crossing", "Move the edge to where the wave next crosses zero",
                edge(selecting.to_crossing, 1), ("Z",), nothing_open),
        Command("crossing_back", menu, "Edge to the zero crossing before", "Move the edge to where the wave last crossed zero",
                edge(selecting.to_crossing, -1), ("Shift+Z",), nothing_open),
        Command("mark_on", menu, "Edge to the next marker or finding", "Move the edge to the next marker, or edge of a finding",
                edge(selecting.to_mark, 1), ("J",), nothing_open),
        Command("mark_back", menu, "Edge to the marker or finding before", "Move the edge to the marker or finding before",
                edge(selecting.to_mark, -1), ("Shift+J",), nothing_open),
        Command("ruler", menu, "Ruler: time, samples, beats", "What the ruler below the Passage counts",
                selecting.next_ruler, ("U",), nothing_open, separated=True),
        Command("tempo", menu, "Tempo…", "How many beats a minute the ruler and typed beats have", dialogs.ask_tempo,
                ("Ctrl+U",), nothing_open),
    ]  # fmt: skip


def hand_commands(bench: Bench, tools: Tools, dialogs: HandDialogs) -> list[Command]:
    """Return the commands of the menu for working by hand."""
    handwork, drawing, pasting = tools.handwork, tools.drawing, tools.pasting
    seaming, levelling = tools.seaming, tools.levelling

    def nothing_open() -> str:
        return "" if bench.work else "Open a recording first (Ctrl+O)."

    def no_selection() -> str:
        return nothing_open() or (
            "" if bench.work and bench.work.selection else "Select something first: drag in the Passage or the Loupe."
        )

    def cannot_edit() -> str:
        return nothing_open() or (bench.work.held if bench.work else "")

    def cannot_edit_selection() -> str:
        return no_selection() or cannot_edit()

    def nothing_carried() -> str:
        return "" if pasting.carried else "Carry a copy first (P)."

    def one_channel() -> str:
        return nothing_open() or ("" if bench.work and bench.work.channels > 1 else "The recording has one channel.")

    def vertical(direction: int, coarse: int) -> Callable[[], None]:
        def run() -> None:
            if (held := tools.held) is not None:
                held.lift(direction * coarse)
            else:
                drawing.nudge(direction * coarse * dialogs.nudge_by())

        return run

    def fade(direction: str) -> Callable[[], None]:
        def run() -> None:
            if pasting.carried and direction == "in":
                pasting.invert()
            else:
                handwork.fade(direction)

        return run

    def no_fade() -> str:
        return "" if pasting.carried else handwork.reason_against()

    menu = "&By hand"
    return [
        Command("pen", menu, "Draw", "Take up the pen: a drag in the Loupe draws samples", drawing.toggle, ("D",),
                nothing_open, lambda: drawing.is_on),
        Command("smooth_strokes", menu, "Smooth what is drawn", "Smooth every stroke of the pen a little",
                drawing.toggle_smooths, ("Alt+D",), nothing_open, lambda: drawing.smooths),
        Command("link_channels", menu, "Draw on all channels", "What is redrawn changes all channels by as much",
                drawing.toggle_links, ("Shift+D",), one_channel, lambda: drawing.links),
        Command("redraw_curve", menu, "Curve", "Redraw the selection, or the sample at the cursor, on a curve that keeps level and slope",
                lambda: drawing.shape("curve"), ("Y",), cannot_edit, separated=True),
        Command("redraw_line", menu, "Straight", "Redraw the selection, or the sample at the cursor, on a straight line",
                lambda: drawing.shape("line"), ("Shift+Y",), cannot_edit),
        Command("redraw_smooth", menu, "Smooth", "Smooth the samples that are selected", lambda: drawing.shape("smooth"),
                ("Alt+Y",), cannot_edit_selection),
        Command("redraw_value", menu, "Value…", "Type the value of the samples selected, or of the one at the cursor",
                dialogs.ask_value, ("Ctrl+Y",), cannot_edit),
        Command("nudge_up", menu, "Sample up", "Move the sample at the cursor up by a pixel; a carried copy louder",
                vertical(1, 1), ("Up",), cannot_edit),
        Command("nudge_down", menu, "Sample down", "Move the sample at the cursor down by a pixel; a carried copy softer",
                vertical(-1, 1), ("Down",), cannot_edit),
        Command("nudge_up_10", menu, "Sample up by ten", "Move the sample at the cursor up by ten pixels",
                vertical(1, _COARSE), ("Shift+Up",), cannot_edit),
        Command("nudge_down_10", menu, "Sample down by ten", "Move the sample at the cursor down by ten pixels",
                vertical(-1, _COARSE), ("Shift+Down",), cannot_edit),
        Command("come_close", menu, "Zoom in to draw samples", "Zoom the Loupe in on the cursor",
                drawing.come_close, ("Ctrl+0",), nothing_open),
        Command("cut", menu, "Cut", "Copy the selection and take it out", pasting.cut, ("Ctrl+X",), cannot_edit_selection,
                separated=True),
        Command("copy", menu, "Copy", "Copy the selection", pasting.copy, ("Ctrl+C",), no_selection),
        Command("paste", menu, "Paste over", "Put the copy over what is there; the length stays",
                lambda: pasting.paste_over(), ("Ctrl+V",), pasting.reason_not_to_paste),
        Command("paste_in", menu, "Paste in", "Put the copy in before the cursor; what follows comes later", pasting.paste_in,
                ("Ctrl+Shift+V",), pasting.reason_not_to_paste),
        Command("mix", menu, "Mix in", "Add the copy to what is there", lambda: pasting.paste_over(adds=True), ("Ctrl+Alt+V",),
                pasting.reason_not_to_paste),
        Command("carry", menu, "Carry a copy", "Drag a copy of the selection along the strips until it fits", pasting.carry,
                ("P",), cannot_edit_selection),
        Command("fit", menu, "Fit the carried copy", "Take the copy from a little beside, and level it, so that it goes on best where it is",
                pasting.fit, ("Shift+P",), nothing_carried),
        Command("drop", menu, "Drop the carried copy", "Put the carried copy where it is (Enter does too)", pasting.take, (),
                nothing_carried),
        Command("splice", menu, "Splice out", "Take the selection out, joined where it matches best",
                lambda: handwork.splice_out(), ("Backspace",), handwork.reason_against, separated=True),
        Command("keep_length", menu, "Fill from beside", "Replace the selection by the sound nearby that fits best; nothing moves",
                lambda: handwork.splice_out("keep"), ("Shift+Backspace",), handwork.reason_against),
        Command("seam_desk", menu, "Seam desk", "Slide and hear the join before it is made", seaming.open, ("W",),
                lambda: "" if seaming.desk else seaming.reason_against()),
        Command("type_level", menu, "Level by…", "Type by how much the selection is to be louder or softer",
                dialogs.type_level, ("Shift+G",), cannot_edit, separated=True),
        Command("level_curve", menu, "Level curve", "Show the level curve over the Passage, to change it by its nodes",
                levelling.toggle, ("Ctrl+G",), nothing_open, lambda: levelling.is_shown),
        Command("fade_in", menu, "Fade in", "Fade the selection in (turns a carried copy over)", fade("in"), ("I",), no_fade),
        Command("fade_out", menu, "Fade out", "Fade the selection out", fade("out"), ("O",), no_fade),
        Command("soften", menu, "Soften the edges", "Fade five milliseconds at both edges of the selection, or of the recording",
                handwork.soften_edges, ("Shift+I",), cannot_edit),
        Command("keep_only", menu, "Keep only the selection", "Take away everything before and after the selection",
                handwork.keep_only, ("Ctrl+K",), cannot_edit_selection, separated=True),
        Command("exact_length", menu, "Exact length…", "Cut to a length typed as time, samples or beats", dialogs.ask_length,
                ("Ctrl+L",), cannot_edit),
        Command("loop_check", menu, "Loop check", "Play it round, and see its end meet its start", dialogs.check_loop,
                ("Shift+L",), cannot_edit),
    ]  # fmt: skip
