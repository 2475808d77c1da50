"""Filling a polygon from arrays at once: a point at a time from Python would take longer than drawing it."""

from __future__ import annotations

import ctypes

import numpy as np
import numpy.typing as npt
import shiboken6
from PySide6.QtGui import QPolygonF


def polyline(x: npt.NDArray[np.float64], y: npt.NDArray[np.float64]) -> QPolygonF:
    """Return the points as a polygon."""
    polygon = QPolygonF()
    polygon.resize(len(x))
    if len(x):
        address = shiboken6.getCppPointer(polygon.data())[0]
        memory = np.ctypeslib.as_array((ctypes.c_double * (2 * len(x))).from_address(address))
        memory[0::2], memory[1::2] = x, y
    return polygon
