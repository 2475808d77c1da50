"""Where Umbrick keeps what it derives and remembers; nothing else decides about its own folders."""

from __future__ import annotations

import os
from pathlib import Path

import platformdirs

HOME_VARIABLE = "UMBRICK_HOME"
"""When set, everything is kept in this folder instead of the person's own cache and settings folders."""


def cache_folder() -> Path:
    """Return the folder for decoded sound and pyramids, which may be deleted at any time."""
    home = os.environ.get(HOME_VARIABLE)
    return Path(home) / "cache" if home else Path(platformdirs.user_cache_dir("umbrick", appauthor=False))


def settings_folder() -> Path:
    """Return the folder for what the window remembers."""
    home = os.environ.get(HOME_VARIABLE)
    return Path(home) / "settings" if home else Path(platformdirs.user_config_dir("umbrick", appauthor=False))


def state_folder() -> Path:
    """Return the folder for logs, which may be deleted at any time."""
    home = os.environ.get(HOME_VARIABLE)
    return Path(home) / "state" if home else Path(platformdirs.user_state_dir("umbrick", appauthor=False))


def work_folder() -> Path:
    """Return the folder for what must not be lost: unnamed casebooks, and old files kept when others replaced them."""
    home = os.environ.get(HOME_VARIABLE)
    return Path(home) / "work" if home else Path(platformdirs.user_data_dir("umbrick", appauthor=False))
