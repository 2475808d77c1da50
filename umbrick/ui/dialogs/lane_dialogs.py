"""What the commands for lanes ask: an offset, a gain, and how many pictures there are a second."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QWidget

from umbrick.core.errors import ParameterError
from umbrick.core.linking.fellows import fellows
from umbrick.core.timecode import parse_rate, rate_text
from umbrick.core.units import format_count, format_db, format_length, parse_db, parse_frames
from umbrick.ui import settings
from umbrick.ui.bench.bench import Bench
from umbrick.ui.bench.channel_lanes import ChannelLanes
from umbrick.ui.bench.linking import Linking
from umbrick.ui.dialogs.typed_dialog import TypedDialog
from umbrick.ui.files.opening import Opening

_MOST_GAIN_DB = 40


class LaneDialogs:
    """Asks over a parent, and has it done."""

    def __init__(
        self, bench: Bench, linking: Linking, channel_lanes: ChannelLanes, opening: Opening, parent: QWidget
    ) -> None:
        self._bench = bench
        self._linking = linking
        self._channel_lanes = channel_lanes
        self._opening = opening
        self._parent = parent

    def ask_offset(self) -> None:
        """Ask how much earlier than the first recording the current lane starts, and have it so."""
        lane = self._linking.lane
        if lane is None:
            return
        rate = lane.clock.rate

        def frames_of(text: str) -> int:
            bare = text.strip()
            is_later = bare.startswith(("-", "−"))
            return -parse_frames(bare[1:], rate) if is_later else parse_frames(bare.removeprefix("+"), rate)

        def check(values: list[str]) -> str:
            frames = frames_of(values[0])
            when = "earlier" if frames >= 0 else "later"
            length = f"{format_length(abs(frames), rate)} ({format_count(abs(frames), 'frame')})"
            return f"{lane.work.name} starts {length} {when} than the first."

        dialog = TypedDialog(
            "Offset of this lane",
            [("Starts earlier by", f"{round(lane.clock.offset_frames)} smp")],
            check,
            "Set",
            parent=self._parent,
        )
        if dialog.exec():
            self._linking.set_offset(float(frames_of(dialog.values[0])))

    def open_fellows(self) -> None:
        """Open what lies beside the current recording and is named like it but for a number or letter, and link it."""
        work = self._bench.work
        if work is None:
            return
        path = work.recording.path
        try:
            found = fellows(path, path.parent.iterdir())
        except OSError as error:
            self._bench.failed.emit(f"{path.parent} cannot be read: {error.strerror}.")
            return
        if not found:
            self._bench.said.emit(f"Nothing beside {path.name} is named like it but for a number or letter at the end.")
            return

        def link() -> None:
            self._bench.show_work(work)
            if why := self._linking.reason_not_to_link():
                self._bench.failed.emit(why)
            else:
                self._linking.link()

        self._opening.open(found, link)

    def ask_joined(self) -> None:
        """Ask for a name, and write the lanes there as the channels of one file."""
        if (work := self._bench.work) is None:
            return
        proposed = str(work.home.with_name(f"{work.name} lanes.wav"))
        path, _ = QFileDialog.getSaveFileName(
            self._parent, "Lanes into one file", proposed, "Sound (*.wav *.w64 *.caf *.flac)"
        )
        if path:
            self._channel_lanes.join(Path(path))

    def ask_rate(self) -> None:
        """Ask how many pictures there are a second, for recordings that no video tells it of."""

        def check(values: list[str]) -> str:
            return f"Shifts are told in pictures at {rate_text(parse_rate(values[0]))} a second too."

        shown = rate_text(settings.pictures_a_second() or parse_rate("25"))
        dialog = TypedDialog("Pictures a second", [("Pictures a second", shown)], check, "Set", parent=self._parent)
        if dialog.exec():
            settings.set_pictures_a_second(parse_rate(dialog.values[0]))
            self._bench.edited.emit()

    def ask_gain(self) -> None:
        """Ask how much louder the current lane is heard among the others."""
        lane = self._linking.lane
        if lane is None:
            return

        def check(values: list[str]) -> str:
            gain_db = parse_db(values[0])
            if not -_MOST_GAIN_DB <= gain_db <= _MOST_GAIN_DB:
                raise ParameterError(f"A lane is heard up to {_MOST_GAIN_DB} dB louder or softer.")
            return f"{lane.work.name} is heard {format_db(gain_db, 'dB')}; the recording stays as it is."

        dialog = TypedDialog(
            "Gain of this lane", [("Heard louder by", f"{lane.gain_db:g} dB")], check, "Set", parent=self._parent
        )
        if dialog.exec():
            self._linking.set_gain(parse_db(dialog.values[0]))
