"""The ``umbrick`` executable: its commands, and how every failure leaves it."""

from __future__ import annotations

import importlib
import os
import sys
from typing import Any, NamedTuple

import click

from umbrick import __version__
from umbrick.cli.output import fault_told, one_line, warn
from umbrick.core.errors import UmbrickError
from umbrick.core.fault_log import DEBUG_VARIABLE
from umbrick.core.processors import let_start_processes


class _Entry(NamedTuple):
    """Where a command is, and what it does in a few words: it is loaded when it is called, as that takes a second."""

    module: str
    name: str
    summary: str


_COMMANDS = {
    "survey": _Entry("umbrick.cli.survey", "survey_command", "Measure recordings and list their findings."),
    "mend": _Entry("umbrick.cli.mend", "mend_command", "Mend a recording without a window."),
    "batch": _Entry("umbrick.cli.batch", "batch_command", "Run a regimen on a folder of recordings."),
    "propose": _Entry("umbrick.cli.propose", "propose_command", "Draft a treatment, with a reason for each step."),
    "align": _Entry("umbrick.cli.align", "align_command", "Measure how recordings of one event lie."),
    "report": _Entry("umbrick.cli.report", "report_command", "Tell what was found and done."),
    "restore": _Entry("umbrick.cli.restore", "restore_command", "Bring back the old file that was replaced."),
    "methods": _Entry("umbrick.cli.methods", "methods_command", "List methods with their parameters."),
    "demo": _Entry("umbrick.cli.bench", "demo_command", "Open the bench with the demo recordings."),
}


class _CommandOrFiles(click.Group):
    """Takes ``umbrick FILE…`` for opening the bench with these files."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return sorted(_COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        entry = _COMMANDS.get(cmd_name)
        return None if entry is None else getattr(importlib.import_module(entry.module), entry.name)

    def resolve_command(self, ctx: click.Context, args: list[str]) -> Any:
        if args and args[0] not in _COMMANDS and not args[0].startswith("-"):
            command = _bench_command()
            return command.name, command, args
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl([(name, _COMMANDS[name].summary) for name in self.list_commands(ctx)])

    def shell_complete(self, ctx: click.Context, incomplete: str) -> list[click.shell_completion.CompletionItem]:
        item = click.shell_completion.CompletionItem
        named = [item(name, help=_COMMANDS[name].summary) for name in sorted(_COMMANDS) if name.startswith(incomplete)]
        if incomplete.startswith("-"):
            return click.Command.shell_complete(self, ctx, incomplete)
        return [*named, item(incomplete, type="file")]


def _bench_command() -> click.Command:
    from umbrick.cli.bench import bench_command

    return bench_command


@click.group(
    cls=_CommandOrFiles,
    invoke_without_command=True,
    subcommand_metavar="[COMMAND | FILE…] …",
    context_settings={"help_option_names": ["-h", "--help"]},
)
@click.version_option(__version__, "-V", "--version", prog_name="umbrick")
@click.option("--debug", is_flag=True, help="Show all details of a fault in Umbrick itself (or set UMBRICK_DEBUG=1).")
@click.option(
    "--edit",
    "edited",
    metavar="FILE",
    type=click.Path(),
    help="Open one FILE for another program that waits: F2 puts it back in place and closes. Exit status 3 if it was "
    "left as it was.",
)
@click.pass_context
def umbrick(context: click.Context, edited: str | None, debug: bool) -> None:
    """Find faults in recordings and mend each with the least change that works.

    Without a command the bench opens, with the FILEs given. Exit status: 0 done, 1 the work failed, 2 wrong usage.
    """
    if debug:
        os.environ[DEBUG_VARIABLE] = "1"
    if edited is not None and context.invoked_subcommand is not None:
        raise click.UsageError("--edit takes one FILE and nothing else.")
    if edited is not None:
        from umbrick.cli.bench import edit_for_another_program

        edit_for_another_program(edited)
    elif context.invoked_subcommand is None:
        context.invoke(_bench_command())


def main() -> None:
    """Run the command line; every failure is one line on standard error."""
    let_start_processes()
    try:
        status = umbrick.main(prog_name="umbrick", standalone_mode=False)
    except click.UsageError as error:
        warn(f"umbrick: {one_line(Exception(error.format_message()))} (umbrick --help tells more)")
        sys.exit(2)
    except click.ClickException as error:
        warn(f"umbrick: {error.format_message()}")
        sys.exit(1)
    except (click.Abort, KeyboardInterrupt):
        warn("umbrick: stopped; nothing was changed.")
        sys.exit(1)
    except UmbrickError as error:
        warn(f"umbrick: {one_line(error)}")
        sys.exit(1)
    except BrokenPipeError:
        sys.exit(1)
    except Exception as error:
        warn(f"umbrick: {fault_told(error)}")
        sys.exit(1)
    sys.exit(status if isinstance(status, int) else 0)
