"""The commands for the course."""

from __future__ import annotations

from collections.abc import Callable

from umbrick.core.mend.parameters import Value
from umbrick.ui.bench.coursing import Coursing, Ear
from umbrick.ui.bench.rehearsing_noise import RehearsingNoise
from umbrick.ui.bench.settling import Settling
from umbrick.ui.commands.command import Command
from umbrick.ui.hand.strengthening import Strengthening

_MENU = "&Course"

ADDING: tuple[tuple[str, str, str, tuple[str, ...], str, dict[str, Value]], ...] = (
    ("lay_low_cut", "Low cut", "Take out what lies lower than any sound that is wanted: rumble, thumps, handling", (),
     "filter", {"shape": "low_cut", "frequency_hz": 80.0}),
    ("lay_soft", "Soften the highs", "Lower the highs: an F that crackles, a sharp S, cutlery", ("Shift+F",),
     "filter", {"shape": "high_shelf", "frequency_hz": 3000.0, "gain_db": -9.0}),
    ("lay_notch", "Notch", "Take out one tone: a whistle, a ring", (),
     "filter", {"shape": "notch", "frequency_hz": 1000.0, "q": 8.0}),
    ("lay_filter", "Filter", "A bell to begin with, and as many filters as wanted", (),
     "filter", {"shape": "bell", "frequency_hz": 1000.0, "gain_db": -3.0, "q": 1.0}),
    ("lay_dehum", "Take out hum", "Subtract the mains and its harmonics, as they drift", ("Alt+Shift+H",), "dehum", {}),
    ("lay_denoise", "Lower noise", "Lower steady noise by what is left of it in quiet moments", (), "denoise", {}),
    ("lay_dereverb", "Lower the room", "Lower what the room adds late", ("Alt+Shift+R",), "dereverb", {}),
    ("lay_deess", "Soften sharp consonants", "Bring consonants that are too bright to this voice's usual ones", (), "deess", {}),
    ("lay_lull", "Lower the pauses", "Lower what lies between phrases, without touching words", ("Alt+Shift+L",), "lull", {}),
    ("lay_peak", "Level to a peak", "One gain, so that the highest sample is where it is wanted", (),
     "normalize", {"measure": "peak"}),
    ("lay_loudness", "Level to a loudness", "One gain, so that the loudness is what is wanted", (),
     "normalize", {"measure": "loudness"}),
    ("lay_dc", "Take out DC", "Have the wave rest at zero", (), "dc", {}),
    ("lay_drift", "Take out drifting DC", "Have the wave rest at zero where its offset wanders", (),
     "dc", {"drift": "slow"}),
)  # fmt: skip
"""What can be laid over a recording, in words of the job: name, text, hint and keys; method and settings."""


def course_commands(
    coursing: Coursing,
    strengthening: Strengthening,
    rehearsing_noise: RehearsingNoise,
    settling: Settling,
    show_page: Callable[[], None],
    ask_room: Callable[[], None],
) -> list[Command]:
    """Return the commands of the menu for the course."""

    def add(method: str, settings: dict[str, Value]) -> Callable[[], None]:
        def run() -> None:
            coursing.add(method, settings)

        return run

    no_step = coursing.reason_against_step

    def no_selection() -> str:
        return no_step() or coursing.reason_against_selection()

    def no_area() -> str:
        return no_step() or coursing.reason_against_area()

    def no_finding() -> str:
        return no_step() or coursing.reason_against_findings()

    def nothing_to_measure() -> str:
        return no_step() or ("" if coursing.learns() else "This step measures nothing.")

    def hear(ear: Ear) -> Callable[[], None]:
        return lambda: coursing.hear(coursing.chosen, ear)

    def hears(ear: Ear) -> Callable[[], bool]:
        return lambda: coursing.ear == (coursing.chosen, ear)

    def no_noise() -> str:
        return coursing.reason_against() or coursing.reason_against_selection()

    return [
        Command("course", _MENU, "Course", "Show what is laid over the recording, or what is here", show_page, ("F3",),
                lambda: "", lambda: coursing.is_open),
        *(
            Command(name, _MENU, text, f"{hint}; over the selection, or over all of it", add(method, settings), keys,
                    coursing.reason_against, separated=index == 0)
            for index, (name, text, hint, keys, method, settings) in enumerate(ADDING)
        ),
        Command("lay_print", _MENU, "Lower noise like the selection",
                "Take the selection, which holds only noise, for its print, and lower such noise in all of the recording",
                lambda: coursing.add_by_print("denoise"), ("Ctrl+Alt+N",), no_noise),
        Command("lay_hum_print", _MENU, "Take out hum like the selection",
                "Find the hum in the selection, which holds nothing else, and take it out of all of the recording",
                lambda: coursing.add_by_print("dehum"), ("Ctrl+Alt+H",), no_noise),
        Command("lay_for_finding", _MENU, "Lay what this finding needs",
                "For hum, hiss, rumble and DC: lay over all of the recording what takes it out", coursing.lay_for_focus,
                ("Alt+Enter", "Alt+Return"), coursing.reason_not_to_lay_for_focus),
        Command("next_step", _MENU, "Next step", "Work on the next step of the course", lambda: coursing.choose_next(1),
                ("Alt+PgDown",), no_step, separated=True),
        Command("switch_step", _MENU, "Switch the step", "Switch the chosen step off, or on again",
                lambda: coursing.switch(coursing.chosen), ("Alt+X",), no_step),
        Command("step_alone", _MENU, "Hear the step alone", "Hear the chosen step without the others", hear(Ear.ALONE),
                ("Alt+A",), no_step, hears(Ear.ALONE)),
        Command("step_without", _MENU, "Hear without the step", "Hear all but the chosen step", hear(Ear.WITHOUT),
                ("Alt+W",), no_step, hears(Ear.WITHOUT)),
        Command("carry_step", _MENU, "Carry the step here",
                "Have the chosen step act on the selection too, or as long from the cursor on", coursing.carry,
                ("Alt+P",), coursing.reason_not_to_carry),
        Command("spare_step", _MENU, "Spare this place",
                "Have the chosen step leave the selection as it is, or its place at the cursor", coursing.spare,
                ("Alt+Shift+P",), coursing.reason_not_to_spare),
        Command("carry_step_over", _MENU, "Carry the step to all open recordings",
                "Lay the chosen step over every other recording on the bench", coursing.carry_over, (),
                coursing.reason_not_to_carry_over),
        Command("step_over_all", _MENU, "Step over all of it", "Have the chosen step lie over all of the recording",
                coursing.lay_over_all, (), no_step, separated=True),
        Command("step_over_selection", _MENU, "Step over the selection", "Have the chosen step lie over just the selection",
                coursing.lay_over_selection, (), no_selection),
        Command("step_over_area", _MENU, "Step over the area", "Have the chosen step act in just the area's time and band",
                coursing.lay_over_area, (), no_area),
        Command("step_over_findings", _MENU, "Step over all findings of this kind",
                "Have the chosen step lie over what is listed of the kind in focus, ramps beside it",
                coursing.lay_over_findings, (), no_finding),
        Command("step_over_pauses", _MENU, "Step over the pauses", "Have the chosen step lie over the recording's pauses",
                coursing.lay_over_pauses, (), no_step),
        Command("step_channels", _MENU, "Step on these channels", "Have the chosen step act on just the selected channels (Shift+C)",
                coursing.lay_on_channels, (), no_step),
        Command("step_up", _MENU, "Step earlier in the course", "Have sound go through the chosen step earlier",
                lambda: coursing.move_by(-1), ("Alt+Shift+Up",), no_step),
        Command("step_down", _MENU, "Step later in the course", "Have sound go through the chosen step later",
                lambda: coursing.move_by(1), ("Alt+Shift+Down",), no_step),
        Command("measure_step", _MENU, "Measure again", "Measure again what the chosen step is set by",
                lambda: coursing.learn_again(coursing.chosen), (), nothing_to_measure),
        Command("strength_line", _MENU, "Strength along time",
                "Draw over the Passage how much of the chosen step is done, from nothing to all of it",
                strengthening.toggle, ("Alt+G",), no_step, lambda: strengthening.is_shown),
        Command("rehearse_step", _MENU, "How far to lower noise?",
                "Add noise of the recording's own pauses where it is loud, take it out, and compare with what was there",
                rehearsing_noise.start, ("Ctrl+Alt+B",), rehearsing_noise.reason_against),
        Command("settle", _MENU, "Settle the course here",
                "Make what the course does of the selection, or of all, samples that can be drawn on and mended",
                settling.settle, (), settling.reason_against, separated=True),
        Command("take_step_off", _MENU, "Take the step off", "Take the chosen step off",
                lambda: coursing.take_off(coursing.chosen), ("Alt+Del",), no_step),
        Command("course_room", _MENU, "Room on the disk…", "How much of what the course makes is kept on the disk",
                ask_room, (), separated=True),
    ]  # fmt: skip
