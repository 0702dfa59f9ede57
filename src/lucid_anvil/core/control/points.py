"""Several control points taken as one (IEC 60068-2-6, 3.7: multipoint control)."""

from __future__ import annotations

import numpy as np

from ..signal.sinefit import Floats


def combined(levels: Floats, how: str) -> Floats:
    """Average, maximum or minimum over the first axis of `levels` (points, ...)."""
    if how == "maximum":
        return np.asarray(np.max(levels, axis=0))
    if how == "minimum":
        return np.asarray(np.min(levels, axis=0))
    return np.asarray(np.mean(levels, axis=0))
