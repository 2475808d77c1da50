"""Umbrick, a restoration editor for recordings."""

import importlib
import os
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from umbrick.api import Finding, Findings, Recording, Regimen, UmbrickError, batch, open, report

__version__ = "0.1.0"

# Umbrick runs its own threads, one for each core. A linear algebra library that starts as many again for every small
# product only makes them wait for each other; it reads this when it is loaded, which is after this module.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

__all__ = ["Finding", "Findings", "Recording", "Regimen", "UmbrickError", "batch", "open", "report"]


def __getattr__(name: str) -> Any:
    """Return a part of the stable surface (see :mod:`umbrick.api`), which is loaded when it is first asked for."""
    if name not in __all__:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    api = importlib.import_module("umbrick.api")
    return getattr(api, name)


def __dir__() -> list[str]:
    return sorted({*globals(), *__all__})
