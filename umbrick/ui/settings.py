"""What the window remembers between starts."""

from __future__ import annotations

from PySide6.QtCore import QSettings

from umbrick.core.paths import settings_folder

_MOST_RECENT = 8
_NAME_PATTERN = "{name}-mended"


def open_settings() -> QSettings:
    """Return the settings file, which a person may delete at any time."""
    return QSettings(str(settings_folder() / "window.ini"), QSettings.Format.IniFormat)


def add_recent(path: str) -> None:
    """Remember a file that was opened."""
    settings = open_settings()
    recent = [path, *(other for other in recent_files() if other != path)]
    settings.setValue("recent", recent[:_MOST_RECENT])


def recent_files() -> list[str]:
    """Return the files opened last, newest first."""
    value = open_settings().value("recent", [])
    return [value] if isinstance(value, str) else list(value or [])


def name_pattern() -> str:
    """Return the pattern for the names of saved copies; ``{name}`` stands for the recording's name."""
    value = str(open_settings().value("name_pattern", _NAME_PATTERN))
    return value if "{name}" in value and "/" not in value else _NAME_PATTERN


def set_name_pattern(pattern: str) -> None:
    """Remember the pattern for the names of saved copies."""
    open_settings().setValue("name_pattern", pattern)
