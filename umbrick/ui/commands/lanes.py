"""The commands for linked recordings, and for the picture."""

from __future__ import annotations

from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.channel_lanes import ChannelLanes
from umbrick.ui.bench.linking import Linking
from umbrick.ui.bench.picture import Picturing
from umbrick.ui.commands.command import Command
from umbrick.ui.dialogs.lane_dialogs import LaneDialogs

_MENU = "Lanes"


def lane_commands(bench: Bench, linking: Linking, channel_lanes: ChannelLanes, dialogs: LaneDialogs) -> list[Command]:
    """Return the commands of the menu for lanes."""
    no_set = linking.reason_without_set

    def nothing_open() -> str:
        return "" if bench.work else "Open a recording first (Ctrl+O)."

    def solo() -> None:
        if linking.lane is not None:
            linking.toggle(linking.lane, "is_solo")

    return [
        Command("link", _MENU, "Link recordings to this one", "Find which open recordings are of this event and how they lie, and put them on one clock",
                linking.link, ("Ctrl+Shift+A",), linking.reason_not_to_link),
        Command("open_fellows", _MENU, "Open and link what is named alike", "Open the files beside this one whose names differ just in a number or letter at the end, and link them",
                dialogs.open_fellows, (), nothing_open),
        Command("channels_as_lanes", _MENU, "Channels as lanes", "Write each channel of this recording as a file of its own, open them, and link them",
                channel_lanes.split, (), channel_lanes.reason_not_to_split),
        Command("lanes_as_channels", _MENU, "Lanes into one file…", "Write what all lanes have in common as the channels of one file", dialogs.ask_joined, (),
                channel_lanes.reason_not_to_join),
        Command("unlink", _MENU, "Unlink", "Have each be a recording of its own again", linking.unlink, (), no_set),
        Command("lane_offset", _MENU, "Offset of this lane…", "Type how much earlier than the first recording this one starts", dialogs.ask_offset, (),
                linking.reason_not_to_shift),
        Command("take_drift_out", _MENU, "Take the drift out…", "Write and open a copy of this lane that runs on the clock of the first",
                linking.take_drift_out, (), linking.reason_not_to_steady),
        Command("which_one", _MENU, "Which one is it?", "Rank the lanes by how much they deviate here from what the others foretell, and go to the first",
                linking.which_one, ("Ctrl+Shift+Q",), no_set, separated=True),
        Command("carry_to_lanes", _MENU, "Carry to the other lanes", "Do what was mended last here at the same place of all ticked lanes",
                linking.carry, ("Ctrl+Shift+P",), linking.reason_not_to_carry),
        Command("next_lane", _MENU, "Next lane", "Go to the next lane, at the same moment", lambda: linking.step_lane(1), ("Ctrl+Shift+G",), no_set,
                separated=True),
        Command("previous_lane", _MENU, "Previous lane", "Go to the previous lane, at the same moment", lambda: linking.step_lane(-1),
                ("Alt+Shift+G",), no_set),
        Command("next_fault", _MENU, "Next finding in any lane", "Go to the next open finding, in whichever lane it is", linking.next_fault,
                ("Ctrl+Shift+Y",), no_set),
        Command("hear_all", _MENU, "Hear all lanes", "Hear all lanes that are not muted, or just this one", linking.set_hears_all,
                ("Alt+Shift+E",), no_set, lambda: linking.hears_all, separated=True),
        Command("solo", _MENU, "Solo", "Hear only this lane", solo, ("Ctrl+Shift+X",), no_set,
                lambda: bool(linking.lane and linking.lane.is_solo)),
        Command("lane_gain", _MENU, "Gain of this lane…", "Type how much louder or softer this lane is heard; the recording stays as it is",
                dialogs.ask_gain, (), no_set),
        Command("show_lanes", _MENU, "Show the lanes", "Show all lanes below the Passage, or do not", linking.set_shows_lanes,
                ("Alt+Shift+B",), no_set, lambda: linking.shows_lanes),
        Command("hold_length", _MENU, "Hold the length", "Let nothing change the length of this recording, nor of those linked to it",
                linking.hold_length, ("Alt+Shift+C",), nothing_open, linking.holds_length, separated=True),
        Command("picture_rate", _MENU, "Pictures a second…", "Type how many pictures a second there are where no video tells", dialogs.ask_rate),
    ]  # fmt: skip


def picture_commands(bench: Bench, picturing: Picturing) -> list[Command]:
    """Return the commands for stepping through a video's pictures."""

    def no_picture() -> str:
        if bench.work is None:
            return "Open a recording first (Ctrl+O)."
        return "" if picturing.has_picture else "This recording is not the sound of a video with a picture."

    return [
        Command("picture_back", "&View", "Previous picture", "Put the cursor on the picture before", lambda: picturing.step(-1),
                ("Ctrl+Alt+Left",), no_picture, separated=True),
        Command("picture_on", "&View", "Next picture", "Put the cursor on the next picture", lambda: picturing.step(1), ("Ctrl+Alt+Right",), no_picture),
    ]  # fmt: skip
