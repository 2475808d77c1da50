"""``umbrick propose``: drafts a treatment for a recording from its survey."""

from __future__ import annotations

from contextlib import closing
from pathlib import Path

import click

from umbrick.cli.options import overwrite_option, quiet_option
from umbrick.cli.output import progress_bar, refuse_existing, say, write_json
from umbrick.cli.survey import run_survey
from umbrick.core.course.laid import Ground
from umbrick.core.course.tiles import Tiles
from umbrick.core.first_look.document import document
from umbrick.core.first_look.draft import first_look
from umbrick.core.first_look.proposal import FirstLook
from umbrick.core.paths import cache_folder
from umbrick.core.sound.recording import open_recording
from umbrick.core.survey.registry import KINDS
from umbrick.core.timeline.version import Version


@click.command("propose")
@click.argument("source", metavar="FILE", type=click.Path())
@click.option("--out", metavar="PATH|-", help="Write the draft as a regimen (umbrick.regimen/1).")
@overwrite_option
@quiet_option
def propose_command(source: str, out: str | None, overwrite: bool, quiet: bool) -> None:
    """Draft a treatment for a recording, with a reason for each step; nothing is done."""
    if out:
        refuse_existing(out, overwrite)
    path = Path(source)
    with closing(open_recording(path, cache_folder())) as recording:
        survey = run_survey(recording, list(KINDS.values()), quiet)
        recording.refuse_damage()
        version = Version.of(recording.source)
        with progress_bar("Looking", quiet) as progress:
            ground = Ground(version, version, Tiles())
            look = first_look(ground, (), survey.sifted({}), survey.levels.peak, progress)
    if out:
        write_json(out, document(path.stem, look), overwrite)
    if out != "-" and not quiet:
        _tell(look)


def _tell(look: FirstLook) -> None:
    if not look.advised:
        say("Nothing is proposed.")
    for one in look.proposals:
        say(f"{one.title if one.is_advised else f'Better left out: {one.title.lower()}'}. {one.reason}")
        if one.expected:
            say(f"  {one.expected}")
