"""Umbrick, a restoration editor for recordings."""

import os

__version__ = "0.1.0"

# Umbrick runs its own threads, one for each core. A linear algebra library that starts as many again for every small
# product only makes them wait for each other; it reads this when it is loaded, which is after this module.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
