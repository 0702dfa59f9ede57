"""Arithmetic and statistics of curves over one another, and cursors on them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from .sinefit import Floats

Curve = tuple[Floats, Floats]
"""x rising, y; NaN where there is nothing"""
WAYS = ("sum", "difference", "ratio", "average", "max hold", "min hold", "spread")
HANN_BANDWIDTH = 1.5
"""Equivalent noise bandwidth of a Hann window, in lines"""


def on_grid(curve: Curve, x: Floats) -> Floats:
    """A curve's values at `x`, straight between its points; NaN outside them."""
    a, b = (np.asarray(v, dtype=float) for v in curve)
    good = np.isfinite(b)
    if np.count_nonzero(good) < 2:
        return np.full(np.shape(x), np.nan)
    return np.asarray(np.interp(x, a[good], b[good], left=np.nan, right=np.nan))


def combined(curves: Sequence[Curve], way: str) -> Curve:
    """Curves taken together on the first one's x: `difference` and `ratio` are of the first and the mean of the
    others, `spread` is the standard deviation of all. NaN where one of them has nothing."""
    x = np.asarray(curves[0][0], dtype=float)
    y = np.array([on_grid(c, x) for c in curves])
    if way == "sum":
        return x, y.sum(axis=0)
    if way in ("difference", "ratio"):
        rest = y[1:].mean(axis=0) if len(curves) > 1 else np.full(x.shape, np.nan)
        with np.errstate(divide="ignore", invalid="ignore"):
            return x, y[0] - rest if way == "difference" else np.where(rest != 0, y[0] / rest, np.nan)
    if way == "average":
        return x, y.mean(axis=0)
    if way == "max hold":
        return x, y.max(axis=0)
    if way == "min hold":
        return x, y.min(axis=0)
    if way == "spread":
        return x, y.std(axis=0, ddof=1) if len(curves) > 1 else np.full(x.shape, np.nan)
    raise ValueError(f"'{way}' is not known; use {', '.join(WAYS)}")


def normalised(curve: Curve) -> Curve:
    """Divided by its greatest size."""
    x, y = (np.asarray(v, dtype=float) for v in curve)
    top = np.nanmax(np.abs(y)) if np.isfinite(y).any() else 0.0
    return x, y / top if top > 0 else y


def nearest_peak(curve: Curve, at: float, log_x: bool = False, reach: float = 0.1) -> tuple[float, float] | None:
    """The highest local maximum within `reach` of the curve's span about `at` [x], refined by a parabola where its
    points stand evenly; None when there is none."""
    x, y = (np.asarray(v, dtype=float) for v in curve)
    good = np.isfinite(y)
    x, y = x[good], y[good]
    if x.size < 3:
        return None
    scale = np.log(np.maximum(x, 1e-12)) if log_x else x
    here = np.log(max(at, 1e-12)) if log_x else at
    top = np.flatnonzero((y[1:-1] >= y[:-2]) & (y[1:-1] > y[2:])) + 1
    top = top[np.abs(scale[top] - here) <= reach * (scale[-1] - scale[0])]
    if not top.size:
        return None
    i = int(top[np.argmax(y[top])])
    a, b, c = y[i - 1 : i + 2]
    left, right = x[i] - x[i - 1], x[i + 1] - x[i]
    bend = a - 2 * b + c
    if bend == 0 or abs(left - right) > 1e-6 * right:
        return float(x[i]), float(b)
    shift = float(np.clip(0.5 * (a - c) / bend, -0.5, 0.5))
    return float(x[i] + shift * right), float(b - 0.25 * (a - c) * shift)


def harmonics(curve: Curve, base: float, most: int = 20) -> list[tuple[int, float, float]]:
    """Number, x and the highest value within two points of each multiple of `base` that the curve reaches."""
    return [(k, *v) for k in range(1, most + 1) if (v := _about(curve, k * base)) is not None]


def sidebands(curve: Curve, centre: float, spacing: float, most: int = 5) -> list[tuple[int, float, float]]:
    """The same at centre ± k·spacing, k from −most to most."""
    return [(k, *v) for k in range(-most, most + 1) if (v := _about(curve, centre + k * spacing)) is not None]


def _about(curve: Curve, at: float) -> tuple[float, float] | None:
    x, y = (np.asarray(v, dtype=float) for v in curve)
    if not x.size or not x[0] <= at <= x[-1]:
        return None
    i = int(np.argmin(np.abs(x - at)))
    near = slice(max(i - 2, 0), i + 3)
    if not np.isfinite(y[near]).any():
        return None
    return at, float(np.nanmax(y[near]))


def band_rms(curve: Curve, low: float, high: float) -> float:
    """rms over a band of a spectrum whose lines are rms values through a Hann window: root of the sum of squares over
    the window's noise bandwidth."""
    x, y = (np.asarray(v, dtype=float) for v in curve)
    inside = (x >= low) & (x <= high) & np.isfinite(y)
    return float(np.sqrt(np.sum(y[inside] ** 2) / HANN_BANDWIDTH))
