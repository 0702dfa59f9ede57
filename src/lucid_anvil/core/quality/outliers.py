"""Values that lie too far from the others of their series (ISO 5725-2:2019, 8.3.4: Grubbs' test)."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy import stats

STRAGGLER, OUTLIER = 0.05, 0.01
"""Significance at which a value is a straggler, and an outlier (ISO 5725-2:2019, 8.3.1)"""
LEAST = 3
"""Values that the test needs"""


@dataclass(frozen=True)
class Far:
    """Places, from 0, of what lies too far: stragglers are looked at, outliers are too far to be chance."""

    stragglers: tuple[int, ...] = ()
    outliers: tuple[int, ...] = ()


def critical(count: int, significance: float) -> float:
    """Greatest distance from the mean, in standard deviations, that the farthest of `count` values of one normal
    distribution exceeds in a share `significance` of series, looked at from both sides (F. E. Grubbs, Technometrics
    11 (1969), 1-21, by Student's distribution)."""
    if count < LEAST:
        return math.inf
    t2 = float(stats.t.ppf(1 - significance / (2 * count), count - 2)) ** 2
    return (count - 1) / math.sqrt(count) * math.sqrt(t2 / (count - 2 + t2))


def far_off(values: Sequence[float | None]) -> Far:
    """Stragglers and outliers of a series; None is passed over. The farthest is tested, and where it is an outlier the
    rest once more without it, as long as at least half of the values are left."""
    held = [(i, float(v)) for i, v in enumerate(values) if v is not None and math.isfinite(v)]
    whole = len(held)
    outliers: list[int] = []
    while len(held) >= LEAST and 2 * len(held) > whole:
        x = np.array([v for _i, v in held])
        s = float(x.std(ddof=1))
        if s <= 1e-12 * float(np.max(np.abs(x))):
            break
        away = np.abs(x - x.mean()) / s
        k = int(np.argmax(away))
        if away[k] > critical(len(held), OUTLIER):
            outliers.append(held.pop(k)[0])
            continue
        if away[k] > critical(len(held), STRAGGLER):
            return Far((held[k][0],), tuple(sorted(outliers)))
        break
    return Far((), tuple(sorted(outliers)))
