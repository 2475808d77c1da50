"""``umbrick restore``: bring back the old file that another was put in place of."""

from __future__ import annotations

from pathlib import Path

import click

from umbrick.cli.options import quiet_option
from umbrick.cli.output import say, write_json
from umbrick.core.sound.kept_originals import bring_back


@click.command("restore")
@click.argument("file", type=click.Path())
@click.option("--json", "as_json", is_flag=True, help="Say the result as JSON.")
@quiet_option
def restore_command(file: str, as_json: bool, quiet: bool) -> None:
    """Put the old file back in place of FILE, which a mended one was put in place of; that one is kept."""
    old, replaced = bring_back(Path(file))
    if as_json:
        document = {"path": file, "from": str(old.path), "replaced": str(replaced) if replaced else None}
        write_json("-", document, overwrite=False)
    elif not quiet:
        say(f"{file} is the old file again, from {old.path}.")
        if replaced:
            say(f"The one that stood there is kept as {replaced}.")
