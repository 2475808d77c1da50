"""The ``umbrick`` executable: its commands, and how every failure leaves it."""

from __future__ import annotations

import sys
from typing import Any

import click

from umbrick import __version__
from umbrick.cli.bench import bench_command, demo_command, edit_for_another_program
from umbrick.cli.mend import mend_command
from umbrick.cli.methods import methods_command
from umbrick.cli.output import one_line, warn
from umbrick.cli.report import report_command
from umbrick.cli.restore import restore_command
from umbrick.cli.survey import survey_command
from umbrick.core.errors import UmbrickError


class _CommandOrFiles(click.Group):
    """Takes ``umbrick FILE…`` for opening the bench with these files."""

    def resolve_command(self, ctx: click.Context, args: list[str]) -> Any:
        if args and args[0] not in self.commands and not args[0].startswith("-"):
            return bench_command.name, bench_command, args
        return super().resolve_command(ctx, args)


@click.group(cls=_CommandOrFiles, invoke_without_command=True, subcommand_metavar="[COMMAND | FILE…] …")
@click.version_option(__version__, prog_name="umbrick")
@click.option(
    "--edit",
    "edited",
    metavar="FILE",
    type=click.Path(),
    help="Open one FILE for another program that waits: F2 puts it back in place and closes. Exit status 3 if it was "
    "left as it was.",
)
@click.pass_context
def umbrick(context: click.Context, edited: str | None) -> None:
    """Find faults in recordings and mend each with the least change that works.

    Without a command the bench opens, with the FILEs given. Exit status: 0 done, 1 the work failed, 2 wrong usage.
    """
    if edited is not None and context.invoked_subcommand is not None:
        raise click.UsageError("--edit takes one FILE and nothing else.")
    if edited is not None:
        edit_for_another_program(edited)
    elif context.invoked_subcommand is None:
        context.invoke(bench_command)


for command in (survey_command, mend_command, report_command, restore_command, methods_command, demo_command):
    umbrick.add_command(command)


def main() -> None:
    """Run the command line; every failure is one line on standard error."""
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
        warn(f"umbrick: an unexpected fault in Umbrick itself ({type(error).__name__}: {one_line(error)}).")
        sys.exit(1)
    sys.exit(status if isinstance(status, int) else 0)
