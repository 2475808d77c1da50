"""The commands for regimens and batches."""

from __future__ import annotations

from collections.abc import Callable

from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.regimens import KEYS, Regimens
from umbrick.ui.commands.command import Command
from umbrick.ui.dialogs.regimen_dialogs import RegimenDialogs

_MENU = "Reg&imen"


def regimen_commands(bench: Bench, regimens: Regimens, dialogs: RegimenDialogs) -> list[Command]:
    """Return the commands of the menu for regimens."""

    def nothing_done() -> str:
        work = bench.work
        if work is None:
            return "Open a recording first (Ctrl+O)."
        is_done = work.history.mend_count or work.history.course
        return "" if is_done else "Mend something first, or lay a step of the course."

    def not_selected() -> str:
        reason = regimens.reason_against()
        return reason or (
            ""
            if bench.work is not None and bench.work.selection
            else "Select something first: drag in the Passage or the Loupe."
        )

    def run(key: int) -> Callable[[], None]:
        return lambda: regimens.run_key(key)

    def no_regimen(key: int) -> Callable[[], str]:
        def reason() -> str:
            return regimens.reason_against() if regimens.name_on(key) else f"No regimen is kept on Ctrl+{key}."

        return reason

    def name_on(key: int) -> Callable[[], str]:
        return lambda: regimens.name_on(key) or "none"

    return [
        Command("draw_regimen", _MENU, "Make one of what was done here…", "Make a regimen of this recording's mends and course, for others of its kind",
                dialogs.draw, ("Ctrl+Alt+R",), nothing_done),
        Command("open_regimen", _MENU, "Open a regimen…", "Look at a regimen, change it, run it", dialogs.open, ("Ctrl+Alt+O",)),
        Command("run_on_selection", _MENU, "Run on the selection…", "Run a regimen on what is selected, as one step", dialogs.run_on_selection, (),
                not_selected),
        Command("run_on_all", _MENU, "Run on all open recordings…", "Run a regimen on every open recording, each as one step", dialogs.run_on_all, (),
                regimens.reason_against),
        Command("batch", _MENU, "Run on a folder…", "Run a regimen on all recordings of a folder, with a report", dialogs.ask_batch, ("Ctrl+Alt+F",)),
        Command("keep_regimen", _MENU, "Keep on a key…", "Have Ctrl+1 to Ctrl+9 run regimens", dialogs.keep, (), separated=True),
        *(Command(f"regimen_{key}", _MENU, f"Run {key}", "Run the regimen on this key on this recording, as one step", run(key), (f"Ctrl+{key}",),
                  no_regimen(key), separated=key == 1, now=name_on(key)) for key in KEYS),
    ]  # fmt: skip
