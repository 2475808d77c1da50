"""The log of faults in Umbrick itself: what a person can send along when something went wrong that should not have."""

from __future__ import annotations

import faulthandler
import logging
import os
import traceback
from logging.handlers import RotatingFileHandler
from pathlib import Path
from typing import Any

from umbrick import __version__
from umbrick.core.paths import state_folder
from umbrick.core.plain_text import plain_line

DEBUG_VARIABLE = "UMBRICK_DEBUG"
"""When set to anything but 0, faults of Umbrick itself are shown with all details."""

_LOG_BYTES = 512 * 1024
_LOGS = 3
_logger = logging.getLogger("umbrick")
_logger.propagate = False


def shows_details() -> bool:
    """Whether the person has asked to see the details of faults."""
    return os.environ.get(DEBUG_VARIABLE, "") not in ("", "0")


def fault_named(error: BaseException) -> str:
    """Return what a fault is called in the sentence that tells a person of it, on one line."""
    return f"fault in Umbrick itself ({type(error).__name__}: {plain_line(str(error))})"


def note_fault(error: BaseException) -> str:
    """Write a fault down in the log, and return its details; what cannot be written is only returned."""
    details = "".join([f"Umbrick {__version__}\n", *traceback.format_exception(error)])
    handler = _handler()
    if handler is not None:
        _logger.addHandler(handler)
        _logger.error("%s", details)
        _logger.removeHandler(handler)
        handler.close()
    return details


def watch_for_crashes() -> Any:
    """Have a crash of the interpreter or a library write down where every thread was; keep what is returned."""
    try:
        file = (_made_folder() / "crash.log").open("a")
    except OSError:
        return None
    faulthandler.enable(file)
    return file


def _made_folder() -> Path:
    folder = state_folder()
    folder.mkdir(parents=True, exist_ok=True)
    return folder


def _handler() -> logging.Handler | None:
    try:
        path = _made_folder() / "umbrick.log"
        handler = RotatingFileHandler(path, maxBytes=_LOG_BYTES, backupCount=_LOGS, encoding="utf-8")
    except OSError:
        return None
    handler.setFormatter(logging.Formatter("%(asctime)s %(message)s"))
    handler.handleError = lambda record: None  # type: ignore[method-assign]
    return handler
