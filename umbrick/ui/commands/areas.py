"""The commands for the spectrogram and for areas."""

from __future__ import annotations

from collections.abc import Callable

from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.spectral_view import SpectralView
from umbrick.ui.commands.command import Command
from umbrick.ui.dialogs.area_dialogs import AreaDialogs
from umbrick.ui.files.lifting_out import LiftingOut
from umbrick.ui.hand.outlining import Ear, Outlining, Pen

_MENU = "Spec&tral"


def spectral_commands(bench: Bench, view: SpectralView, fit: Callable[[], None]) -> list[Command]:
    """Return the commands for how spectrograms are shown."""

    def nothing_open() -> str:
        return "" if bench.work else "Open a recording first (Ctrl+O)."

    def no_spectrum() -> str:
        return nothing_open() or ("" if view.face.has_spectrum else "Show the spectrogram first (V).")

    menu = "&View"
    return [
        Command("next_face", menu, "Waveform or spectrogram", "Show the waveform, both, the spectrogram, or one over the other",
                view.next_face, ("V",), nothing_open, separated=True),
        Command("whole_face", menu, "Whole: spectrogram", "Show a spectrogram of all of the recording, or its waveform", view.toggle_whole,
                ("Ctrl+Shift+W",), nothing_open, lambda: view.whole),
        Command("sharper_time", menu, "Sharper in time", "Shorter windows for the spectrogram",
                lambda: view.sharpen(-1), ("Shift+,",), no_spectrum),
        Command("sharper_pitch", menu, "Sharper in pitch", "Longer windows for the spectrogram",
                lambda: view.sharpen(1), ("Shift+.",), no_spectrum),
        Command("sharpening", menu, "One length, three, or reassigned", "How the spectrogram is sharpened",
                view.next_sharpening, ("Shift+V",), no_spectrum),
        Command("spacing", menu, "Linear, logarithmic or mel", "How frequencies are spaced", view.next_spacing, ("Ctrl+Shift+L",), no_spectrum),
        Command("wash", menu, "Other colours for the spectrogram", "Sepia and ink, or blue, which every kind of colour vision tells apart",
                view.next_wash, ("Alt+Shift+V",), no_spectrum),
        Command("fit_spectrum", menu, "Fit the spectrogram to what is in view", "From what is faint in view to what is loudest",
                fit, ("Alt+Shift+F",), no_spectrum),
        Command("darker", menu, "Spectrogram darker", "Show fainter sound", lambda: view.set_range(view.floor_db - 6, view.ceiling_db - 6),
                ("Alt+Shift+D",), no_spectrum),
        Command("paler", menu, "Spectrogram paler", "Show less faint sound", lambda: view.set_range(view.floor_db + 6, view.ceiling_db + 6),
                ("Alt+Shift+S",), no_spectrum),
        Command("all_frequencies", menu, "All frequencies", "Show the spectrogram from 0 Hz up", view.show_all_frequencies,
                ("Alt+Shift+A",), no_spectrum),
    ]  # fmt: skip


def area_commands(
    bench: Bench, outlining: Outlining, view: SpectralView, lifting_out: LiftingOut, dialogs: AreaDialogs
) -> list[Command]:
    """Return the commands of the menu for areas."""

    def no_spectrum() -> str:
        if bench.work is None:
            return "Open a recording first (Ctrl+O)."
        return "" if view.face.has_spectrum else "Show the spectrogram first (V)."

    def take(pen: Pen) -> Callable[[], None]:
        return lambda: outlining.set_pen(pen)

    def holds(pen: Pen) -> Callable[[], bool]:
        return lambda: outlining.pen is pen

    def hears(ear: Ear) -> Callable[[], bool]:
        return lambda: outlining.ear is ear

    no_area = outlining.reason_against
    return [
        Command("pen_gather", _MENU, "Gather by a click", "A click in the spectrogram selects what goes on like that place; so does a double click, always",
                take(Pen.GATHER), ("Shift+A",), no_spectrum, holds(Pen.GATHER)),
        Command("pen_box", _MENU, "Box", "Draw boxes in the spectrogram (Shift adds, Alt takes away, both keep what both have)",
                take(Pen.BOX), ("Shift+R",), no_spectrum, holds(Pen.BOX)),
        Command("pen_outline", _MENU, "Outline", "Draw round what is meant in the spectrogram", take(Pen.OUTLINE), ("Shift+O",),
                no_spectrum, holds(Pen.OUTLINE)),
        Command("pen_brush", _MENU, "Brush", "Paint over what is meant in the spectrogram", take(Pen.BRUSH), ("Shift+Q",),
                no_spectrum, holds(Pen.BRUSH)),
        Command("brush_size", _MENU, "Size of the brush…", "In milliseconds and Hz", dialogs.ask_brush, (), no_spectrum),
        Command("type_area", _MENU, "Type an area…", "Type where it begins and ends, in time and in Hz", dialogs.ask_area, ("Ctrl+Shift+F",),
                lambda: "" if bench.work else "Open a recording first (Ctrl+O)."),
        Command("gather_more", _MENU, "Gather more", "What is fainter too", lambda: outlining.widen(True), ("Ctrl+Shift+U",), no_spectrum, separated=True),
        Command("gather_less", _MENU, "Gather less", "Only what is louder", lambda: outlining.widen(False), ("Ctrl+Shift+D",), no_spectrum),
        Command("gather_everywhere", _MENU, "Gather everywhere in view", "All in view that looks alike, or only what hangs together",
                lambda: outlining.gather_anew(everywhere=not outlining.gathering.everywhere), ("Ctrl+Shift+E",), no_spectrum,
                lambda: outlining.gathering.everywhere),
        Command("gather_in_time", _MENU, "Gather along time only", "Stay close to the frequency it was begun at",
                lambda: outlining.gather_anew(in_time=not outlining.gathering.in_time), ("Ctrl+Shift+T",), no_spectrum,
                lambda: outlining.gathering.in_time),
        Command("harmonics", _MENU, "With its harmonics", "Take the multiples of the area's frequencies too, as many as sound",
                outlining.toggle_harmonics, ("Ctrl+Shift+H",), no_area,
                lambda: bool(bench.work and bench.work.area and bench.work.area.area.harmonics > 1), separated=True),
        Command("area_to_cursor", _MENU, "Move the area to the cursor", "Have the area begin at the cursor", outlining.carry_to_cursor,
                ("Ctrl+Shift+C",), no_area),
        Command("area_copy", _MENU, "Copy the area to the cursor", "Put what is in the area at the cursor too, instead of what is there at its frequencies",
                outlining.copy_to_cursor, ("Ctrl+Shift+J",), lambda: no_area() or (bench.work.held if bench.work else "")),
        Command("stretch_area", _MENU, "Stretch the area…", "Type how long the area lasts", dialogs.ask_length, (), no_area),
        Command("keep_area", _MENU, "Keep the area…", "Keep the area in the casebook under a name, as a marker", dialogs.keep_area,
                ("Ctrl+Shift+K",), no_area),
        Command("take_area", _MENU, "Area of the marker", "Select the area that the chosen marker keeps", dialogs.take_area,
                ("Ctrl+Shift+M",), dialogs.reason_not_to_take),
        Command("area_alone", _MENU, "Hear the area alone", "Play just what is in the area, round and round", lambda: outlining.hear(Ear.ALONE),
                ("Shift+K",), no_area, hears(Ear.ALONE), separated=True),
        Command("area_without", _MENU, "Hear all but the area", "Play everything but what is in the area, round and round",
                lambda: outlining.hear(Ear.WITHOUT), ("Shift+U",), no_area, hears(Ear.WITHOUT)),
        Command("more_alike", _MENU, "More like this", "List other places that hold what the area holds, as findings", outlining.find_more,
                ("Shift+M",), outlining.reason_against_more),
        Command("lift_out", _MENU, "Lift it out…", "Take the area out, into a file of its own: both together are what there was",
                lifting_out.ask, ("Shift+X",), lambda: no_area() or (bench.work.held if bench.work else "")),
        Command("no_area", _MENU, "No area", "Clear the area", outlining.clear, (), no_area, separated=True),
    ]  # fmt: skip
