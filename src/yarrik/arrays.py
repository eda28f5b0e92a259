"""NumPy, as the rest of the code imports it: without the threads of its linear algebra, which nothing here uses.

Starting them takes as long as all else of importing it. The variable that tells it so is looked at when it is loaded, and is
put back afterwards: what this program starts must not see it."""

from __future__ import annotations

import os

_VARIABLE = "OPENBLAS_NUM_THREADS"
_before = os.environ.get(_VARIABLE)
os.environ[_VARIABLE] = "1"
try:
    import numpy as numpy
    import numpy.typing as npt
finally:
    if _before is None:
        del os.environ[_VARIABLE]
    else:
        os.environ[_VARIABLE] = _before

__all__ = ["npt", "numpy"]
