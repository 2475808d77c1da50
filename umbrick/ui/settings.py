"""What the window remembers between starts."""

from __future__ import annotations

from fractions import Fraction
from typing import TYPE_CHECKING

from PySide6.QtCore import QSettings

from umbrick.core.errors import ParameterError
from umbrick.core.paths import settings_folder
from umbrick.core.timecode import parse_rate

if TYPE_CHECKING:
    from umbrick.playback.output import Choice

_MOST_RECENT = 8
_TILE_LIMIT_GB = 8
_NAME_PATTERN = "{name}-mended"


def open_settings() -> QSettings:
    """Return the settings file, which a person may delete at any time."""
    return QSettings(str(settings_folder() / "window.ini"), QSettings.Format.IniFormat)


def is_set(store: QSettings, name: str, default: bool = False) -> bool:
    """Return a switch as it was left."""
    value = store.value(name, default)
    # It comes back as it was put in, or as text once it has been in the file.
    return value if isinstance(value, bool) else str(value) == "true"


def add_recent(path: str) -> None:
    """Remember a file that was opened."""
    settings = open_settings()
    recent = [path, *(other for other in recent_files() if other != path)]
    settings.setValue("recent", recent[:_MOST_RECENT])


def recent_files() -> list[str]:
    """Return the files opened last, newest first."""
    value = open_settings().value("recent", [])
    return [value] if isinstance(value, str) else [str(path) for path in value] if isinstance(value, list) else []


def output_choice() -> Choice:
    """Return which sound output is wanted; the system's own choice at first."""
    from umbrick.playback.output import LATENCIES, Choice  # the window is painted before that is loaded

    settings = open_settings()
    latency = str(settings.value("output_latency", "high"))
    frames = str(settings.value("output_buffer", "0"))
    return Choice(
        str(settings.value("output_device", "")),
        latency if latency in LATENCIES else "high",
        int(frames) if frames.isdigit() else 0,
    )


def set_output_choice(choice: Choice) -> None:
    """Remember which sound output is wanted."""
    settings = open_settings()
    settings.setValue("output_device", choice.device)
    settings.setValue("output_latency", choice.latency)
    settings.setValue("output_buffer", choice.buffer_frames)


def leads_ms() -> tuple[int, int]:
    """Return how much is played before and after what a loop goes round."""
    settings = open_settings()
    texts = (str(settings.value(name, "500")) for name in ("lead_in_ms", "lead_out_ms"))
    before, after = (min(int(text), 60_000) if text.isdigit() else 500 for text in texts)
    return before, after


def set_leads_ms(before: int, after: int) -> None:
    """Remember how much is played before and after what a loop goes round."""
    settings = open_settings()
    settings.setValue("lead_in_ms", before)
    settings.setValue("lead_out_ms", after)


def tile_limit_bytes() -> int:
    """Return how much room on the disk what the course makes may take."""
    text = str(open_settings().value("tile_limit_gb", _TILE_LIMIT_GB))
    return (int(text) if text.isdigit() else _TILE_LIMIT_GB) << 30


def set_tile_limit_gb(limit: int) -> None:
    """Remember how much room on the disk what the course makes may take."""
    open_settings().setValue("tile_limit_gb", str(limit))


def name_pattern() -> str:
    """Return the pattern for the names of saved copies; ``{name}`` stands for the recording's name."""
    value = str(open_settings().value("name_pattern", _NAME_PATTERN))
    return value if "{name}" in value and "/" not in value else _NAME_PATTERN


def set_name_pattern(pattern: str) -> None:
    """Remember the pattern for the names of saved copies."""
    open_settings().setValue("name_pattern", pattern)


def pictures_a_second() -> Fraction | None:
    """Return how many pictures come a second where no video tells; None if that was never said."""
    text = str(open_settings().value("pictures_a_second", ""))
    try:
        return parse_rate(text) if text else None
    except ParameterError:
        return None


def set_pictures_a_second(rate: Fraction) -> None:
    """Remember how many pictures come a second where no video tells."""
    open_settings().setValue("pictures_a_second", str(rate))
