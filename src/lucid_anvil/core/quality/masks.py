"""Limits for a curve made from curves: a good unit plus and minus an offset, or the spread of a batch."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ..calibration.decision import ROUNDING
from ..signal.sinefit import Floats


@dataclass(frozen=True)
class Mask:
    """Two lines over an axis; straight between their points, over the logarithm of x where that is positive."""

    x: Floats
    low: Floats
    high: Floats

    def at(self, x: Floats) -> tuple[Floats, Floats]:
        """Both lines at other places; NaN beyond the ends and where a line is open, where nothing is said."""
        x = np.asarray(x, dtype=float)
        wanted, own = _axis(x, self.x), _axis(self.x, self.x)
        on = np.minimum(np.searchsorted(self.x, x), self.x.size - 1)
        low, high = (
            np.where(self.x[on] == x, y[on], np.interp(wanted, own, y, left=np.nan, right=np.nan))
            for y in (self.low, self.high)
        )
        return low, high

    def states(self, x: Floats, y: Floats, doubt: Floats) -> tuple[np.ndarray, np.ndarray]:
        """Which points are inside, and which outside, with all of their doubt; one whose doubt is NaN is neither, and
        so is one that no line holds."""
        low, high = self.at(x)
        under, over = ROUNDING * np.abs(low), ROUNDING * np.abs(high)
        limited = (np.isfinite(low) | np.isfinite(high)) & np.isfinite(y)
        above = np.isnan(low) | (y - doubt >= low - under)
        below = np.isnan(high) | (y + doubt <= high + over)
        outside = (y + doubt < low - under) | (y - doubt > high + over)
        return limited & np.isfinite(doubt) & above & below, limited & outside

    def judge(self, x: Floats, y: Floats, doubt: Floats | None = None) -> str:
        """inside, outside or open, as `core.calibration.decision` has it: inside only if all of the doubt is; none
        where nothing is limited. Without `doubt` the values alone decide."""
        low, high = self.at(x)
        used = (np.isfinite(low) | np.isfinite(high)) & np.isfinite(y)
        if not used.any():
            return "none"
        u = np.zeros(y.size) if doubt is None else np.nan_to_num(doubt)
        inside, outside = self.states(x, y, u)
        return "outside" if outside[used].any() else "inside" if inside[used].all() else "open"

    def floated(self, x: Floats, y: Floats, most: float = np.inf) -> float:
        """How far both lines are to be moved so that the smaller margin of a curve is largest, by `most` at most; 0
        where one of them holds nothing of it."""
        low, high = self.at(x)
        below, above = y - low, high - y
        if not (np.isfinite(below).any() and np.isfinite(above).any()):
            return 0.0
        return float(np.clip((np.nanmin(below) - np.nanmin(above)) / 2, -most, most))


def _axis(x: Floats, own: Floats) -> Floats:
    return np.log(np.maximum(x, 1e-300)) if np.all(own > 0) else x


def carried(x: Floats, lines: Sequence[Floats], tolerance: float, most: int = 60) -> np.ndarray:
    """Numbers of the points that carry lines over one axis within `tolerance` [their unit] by straight pieces, ends
    included, at most so many (Douglas & Peucker, Cartographica 10, 1973)."""
    place = _axis(x, x)
    keep = {0, x.size - 1}
    while len(keep) < min(most, x.size):
        order = np.array(sorted(keep))
        off = np.max([np.abs(y - np.interp(place, place[order], y[order])) for y in lines], axis=0)
        worst = int(np.argmax(off))
        if off[worst] <= tolerance:
            break
        keep.add(worst)
    return np.array(sorted(keep))


def around(
    x: Floats, y: Floats, below: Floats | float | None, above: Floats | float | None, most: int = 60
) -> Mask:  # fmt: skip
    """A curve minus `below` and plus `above` [its unit], one value or one a point; None leaves that side open. Thinned
    to the points, `most` at most, that carry both lines within a tenth of the narrower width in the middle of it.
    Raises ValueError without a curve or a width."""
    sides = [None if w is None else np.broadcast_to(np.asarray(w, dtype=float), x.shape) for w in (below, above)]
    widths = [w for w in sides if w is not None]
    if x.size < 2 or any(np.any(w < 0) for w in widths) or not any(np.any(w > 0) for w in widths):
        raise ValueError("a curve of two points at least and a width above zero are needed")
    narrow = min(m for w in widths if (m := float(np.median(w))) > 0 or np.any(w > 0))
    low, high = (None if w is None else y + sign * w for w, sign in zip(sides, (-1.0, 1.0), strict=True))
    keep = carried(x, [v for v in (low, high) if v is not None], max(narrow / 10, 1e-300), most)
    open_ = np.full(keep.size, np.nan)
    return Mask(x[keep], *(open_ if v is None else v[keep] for v in (low, high)))


@dataclass(frozen=True)
class Batch:
    """What several curves have in common, on one axis."""

    x: Floats
    mean: Floats
    deviation: Floats
    """Standard deviation, n - 1"""
    lowest: Floats
    highest: Floats
    count: int

    def mask(self, k: float = 3.0, most: int = 60) -> Mask:
        """Mean ± k standard deviations."""
        return around(self.x, self.mean, k * self.deviation, k * self.deviation, most)


def batch(curves: Sequence[tuple[Floats, Floats]]) -> Batch:
    """Statistics of curves (x, y), taken over the stretch that all of them cover, at the first one's places. Raises
    ValueError for fewer than two, or curves that have no stretch in common."""
    if len(curves) < 2:
        raise ValueError("two curves at least make a batch")
    low, high = max(float(x[0]) for x, _ in curves), min(float(x[-1]) for x, _ in curves)
    first = np.asarray(curves[0][0], dtype=float)
    at = first[(first >= low) & (first <= high)]
    if at.size < 2:
        raise ValueError("the curves have no stretch in common")
    held = np.array([np.interp(_axis(at, at), _axis(np.asarray(x, float), at), y) for x, y in curves])
    return Batch(at, held.mean(axis=0), held.std(axis=0, ddof=1), held.min(axis=0), held.max(axis=0), len(curves))
