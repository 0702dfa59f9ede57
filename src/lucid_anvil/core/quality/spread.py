"""The spread of a reading over units or takes, and how well it keeps its limits."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class Spread:
    """Of `count` values, in their unit."""

    count: int
    mean: float
    standard_deviation: float | None
    """With n − 1; None for one value"""
    minimum: float
    maximum: float
    cm: float | None
    """(high − low)/(6 s); None without both limits, or without a spread"""
    cmk: float | None
    """The mean's smaller distance to a limit over 3 s, negative outside; to the only one where there is one"""


def spread(values: Sequence[float], low: float | None = None, high: float | None = None) -> Spread:
    """Mean, standard deviation, machine capability indices (ISO 22514-3, 7; from few values they are rough). Raises
    ValueError without a finite value."""
    x = np.asarray(values, dtype=float)
    if not x.size or not np.all(np.isfinite(x)):
        raise ValueError("there is no finite value")
    mean = float(x.mean())
    s = float(x.std(ddof=1)) if x.size > 1 else None
    cm = cmk = None
    if s is not None and s > 0:
        if low is not None and high is not None:
            cm = (high - low) / (6 * s)
        sides = [high - mean] if high is not None else []
        sides += [mean - low] if low is not None else []
        if sides:
            cmk = min(sides) / (3 * s)
    return Spread(x.size, mean, s, float(x.min()), float(x.max()), cm, cmk)


def histogram(values: Sequence[float], most: int = 20) -> tuple[np.ndarray, np.ndarray]:
    """Edges of equal bins and how many values lie in each; as many bins as the square root of the number of values,
    up to `most`."""
    x = np.asarray(values, dtype=float)
    bins = int(min(max(math.ceil(math.sqrt(x.size)), 1), most))
    counts, edges = np.histogram(x, bins)
    return edges, counts
