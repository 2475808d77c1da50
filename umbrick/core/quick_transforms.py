"""Quicker Fourier transforms where the extra ``umbrick[fast]`` is installed: half of declipping is made of them."""

from __future__ import annotations

import importlib
from functools import cache

import scipy.fft


@cache
def use_quick_transforms() -> str:
    """Have SciPy's Fourier transforms made by MKL if it is installed, for the whole process; return who makes them.

    Each transform stays in its own thread, as places are mended side by side already. Results are the same to within
    rounding.
    """
    try:
        backend = importlib.import_module("mkl_fft.interfaces.scipy_fft")
        importlib.import_module("mkl").set_num_threads(1)
        # What MKL lacks, such as cosine transforms, SciPy goes on to make.
        scipy.fft.register_backend("scipy")
        scipy.fft.set_global_backend(backend)
    except (ImportError, AttributeError, OSError):
        # It is an extra: what is missing or half installed takes nothing away.
        return "SciPy"
    return "MKL"
