"""Arrays as short lists of numbers, for pictures that travel as text."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike


def rounded(values: ArrayLike, digits: int) -> list[float]:
    """An array's values, rounded to significant digits."""
    x = np.asarray(values, dtype=float)
    size = np.where((x == 0) | ~np.isfinite(x), 1.0, np.abs(x))
    places = np.clip(digits - 1 - np.floor(np.log10(size)), -300, 300).astype(int)
    up, down = 10.0 ** np.clip(places, 0, None), 10.0 ** np.clip(-places, 0, None)
    held: list[float] = (np.round(x * up / down) / up * down).tolist()
    return held
