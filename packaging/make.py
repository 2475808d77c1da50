"""Makes what a package takes along from the program itself: the manual page, completions, and icons of every size.

Run by hand after a change to the commands or the icon: ``python packaging/make.py``. The results are committed.
"""

from __future__ import annotations

import os
import re
import sys
from pathlib import Path

import click
from click.shell_completion import get_completion_class

from umbrick import __version__
from umbrick.cli.main import umbrick

FOLDER = Path(__file__).parent
SHELLS = {"bash": "umbrick.bash", "zsh": "_umbrick", "fish": "umbrick.fish"}
ICON_PIXELS = (16, 24, 32, 48, 64, 128, 256, 512)


def manual_page() -> str:
    """Return the manual page, in the man macros, made from the commands' own help."""
    context = click.Context(umbrick, info_name="umbrick", **umbrick.context_settings)
    lines = [
        f'.TH UMBRICK 1 "" "Umbrick {__version__}" "User Commands"',
        ".SH NAME",
        "umbrick \\- find faults in recordings and mend each with the least change that works",
        ".SH SYNOPSIS",
        ".B umbrick",
        _escaped("[OPTIONS] [COMMAND | FILE…] …"),
        ".SH DESCRIPTION",
        _escaped(umbrick.help or ""),
        ".SH OPTIONS",
        *_options(umbrick, context),
    ]
    for name in umbrick.list_commands(context):
        command = umbrick.get_command(context, name)
        assert command is not None
        own = click.Context(command, info_name=name, parent=context)
        usage = " ".join(command.collect_usage_pieces(own))
        lines += [
            f'.SH "UMBRICK {name.upper()}"',
            f".B umbrick {name}",
            _escaped(usage),
            ".PP",
            _escaped(command.help or ""),
        ]
        lines += _options(command, own)
    lines += [
        ".SH EXIT STATUS",
        "0 done, 1 the work failed, 2 wrong usage, 3 after \\-\\-edit: the file was left as it was.",
        ".SH ENVIRONMENT",
        ".TP\n.B UMBRICK_HOME\nKeep cache, settings and work in this folder instead of your own.",
        ".TP\n.B UMBRICK_DEBUG\nSet to 1, show all details of a fault in Umbrick itself.",
        ".SH FILES",
        _escaped("Work that was given no name, and old files that others were put in place of, are kept in")
        + " ~/.local/share/umbrick; logs in ~/.local/state/umbrick.",
    ]
    return "\n".join(lines) + "\n"


def completion(shell: str) -> str:
    """Return the completion script of a shell."""
    kind = get_completion_class(shell)
    assert kind is not None
    return kind(umbrick, {}, "umbrick", "_UMBRICK_COMPLETE").source()


def _options(command: click.Command, context: click.Context) -> list[str]:
    lines = []
    for parameter in command.get_params(context):
        if record := parameter.get_help_record(context):
            lines += [".TP", f".B {_escaped(record[0])}", _escaped(record[1])]
    return lines


def _escaped(text: str) -> str:
    plain = re.sub(r"\s*\n\s*", "\n", text.replace("\b", "").strip())
    escaped = plain.replace("\\", "\\e").replace("-", "\\-")
    return "\n".join(f"\\&{line}" if line.startswith((".", "'")) else line for line in escaped.split("\n"))


def main() -> None:
    """Write all of it."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtGui import QGuiApplication

    from umbrick.ui.icons import application_icon

    (FOLDER / "umbrick.1").write_text(manual_page())
    for shell, name in SHELLS.items():
        (FOLDER / name).write_text(completion(shell))
    application = QGuiApplication(sys.argv[:1])
    (FOLDER / "icons").mkdir(exist_ok=True)
    for pixels in ICON_PIXELS:
        application_icon(pixels).save(str(FOLDER / "icons" / f"{pixels}.png"))
    application.quit()


if __name__ == "__main__":
    main()
