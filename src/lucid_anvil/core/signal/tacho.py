"""From tach pulses to speed and angle: crossings, repair of missing and extra pulses, a smooth course of rotation."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..errors import BadInput
from .sinefit import Floats

LEAST = 8
"""Pulses below which no speed is told."""
PIECES = tuple(round(2 ** (k / 2)) for k in range(24))
"""Pieces of the course's spline that are tried."""
MOST = 20000
"""Points of the smoothed course; more pulses are taken together."""


def pulse_times(x: Floats, rate: float, level: float | None = None, rising: bool = True) -> Floats:
    """Times [s] at which a tach signal (n,) crosses `level` in one direction, straight between samples. A tenth of the
    swing of hysteresis, so that noise on an edge does not count twice; without a level the middle of the swing."""
    if x.size < 2:
        return np.zeros(0)
    low, high = np.percentile(x, [0.5, 99.5])
    if high <= low:  # pulses so narrow that hardly a sample shows them
        low, high = float(x.min()), float(x.max())
    swing = float(high - low)
    at = (low + high) / 2 if level is None else level
    y = (x - at) * (1.0 if rising else -1.0)
    above = np.flatnonzero((y[1:] >= 0) & (y[:-1] < 0))
    if not above.size:
        return np.zeros(0)
    armed = np.flatnonzero(y < -0.1 * swing)
    # A crossing counts when the signal was well below since the last one that counted.
    before = np.searchsorted(armed, above, side="right")
    first = np.concatenate([[True], np.diff(before) > 0]) & (before > 0)
    i = above[first]
    return np.asarray((i + y[i] / (y[i] - y[i + 1])) / rate)


@dataclass(frozen=True)
class Rotation:
    """A rotation as smooth course of time over angle."""

    angle: Floats
    """revolutions, rising"""
    time: Floats
    """s at each angle"""
    per_angle: Floats
    """s per revolution there"""
    missing: int
    extra: int
    jitter: float
    """s rms of the pulses about the smooth course"""

    def angle_at(self, t: Floats) -> Floats:
        """Revolutions at times [s], held at the ends."""
        from scipy.interpolate import CubicHermiteSpline

        made = CubicHermiteSpline(self.time, self.angle, 1 / self.per_angle)(np.clip(t, self.time[0], self.time[-1]))
        return np.asarray(made)

    def speed_at(self, t: Floats) -> Floats:
        """rpm at times [s]."""
        return np.asarray(np.interp(t, self.time, 60 / self.per_angle))


def repaired(times: Floats) -> tuple[Floats, Floats, int, int]:
    """Pulse numbers and times with extra pulses taken out and missing ones counted over: numbers, times, missing,
    extra. An interval is judged by the median of its neighbours; speed may change by a third from one to the next."""
    t = list(times)
    extra = 0
    for _ in range(3):
        step = np.diff(t)
        usual = _local_median(step)
        short = np.flatnonzero(step < 0.6 * usual)
        drop: list[int] = []
        for i in short:
            # The pulse whose going leaves the better interval.
            if drop and drop[-1] >= i:
                continue
            left = step[i] + (step[i - 1] if i > 0 else usual[i])
            right = step[i] + (step[i + 1] if i + 1 < step.size else usual[i])
            drop.append(int(i) if abs(left - usual[i]) < abs(right - usual[i]) else int(i) + 1)
        if not drop:
            break
        extra += len(set(drop))
        t = [v for k, v in enumerate(t) if k not in set(drop)]
    step = np.diff(t)
    turns = np.maximum(np.rint(step / _local_median(step)), 1).astype(int)
    missing = int(np.sum(turns - 1))
    return np.concatenate([[0], np.cumsum(turns)]).astype(float), np.asarray(t), missing, extra


def _local_median(x: Floats, reach: int = 5) -> Floats:
    if x.size < 2 * reach + 1:
        return np.full(x.size, np.median(x)) if x.size else x
    padded = np.pad(x, reach, mode="edge")
    return np.asarray(np.median(np.lib.stride_tricks.sliding_window_view(padded, 2 * reach + 1), axis=1))


def _white(t: Floats, y: Floats, w: Floats) -> Any:
    """The cubic spline with the fewest knots over times `t` [s] whose fit leaves of `y`, whose noise goes with 1/w,
    nothing but noise: neighbours of what is left do not agree (lag-one autocorrelation; Box & Jenkins, Time Series
    Analysis, 2.1.6), neither on the whole nor in any tenth of the time."""
    from scipy.interpolate import make_lsq_spline

    made = None
    for pieces in PIECES:
        if made is not None and pieces > t.size // 3:
            break
        # Knots at equal times, but for those that too few pulses lie before: a shaft's acceleration changes with time.
        at = np.searchsorted(t, np.linspace(t[0], t[-1], pieces + 1)[1:-1])
        kept, last = [], 0
        for i in at:
            if i - last >= 2 and t.size - i >= 2:
                kept.append((t[i - 1] + t[i]) / 2)
                last = int(i)
        made = make_lsq_spline(t, y, np.concatenate([[t[0]] * 4, kept, [t[-1]] * 4]), w=w)
        if _agree((y - made(t)) * w, t) < 0.1:
            break
    return made


def _agree(left: Floats, t: Floats) -> float:
    """Lag-one autocorrelation of what is left at times [s]: of all, or of the tenth of the time where it is largest,
    less what chance makes of so few."""
    product, power = left[1:] * left[:-1], left**2
    parts = np.searchsorted(t, np.linspace(t[0], t[-1], 11)[:-1])
    worst = float(product.sum()) / max(float(power.sum()), 1e-300)
    for a, b in zip(parts, [*parts[1:], t.size], strict=True):
        if b - a >= LEAST:
            there = float(product[a : b - 1].sum()) / max(float(power[a:b].sum()), 1e-300)
            worst = max(worst, there - 3 / float(np.sqrt(b - a)))
    return worst


def _spread(x: Floats) -> float:
    """Standard deviation of what scatters normally, from the median of its size."""
    return 1.4826 * float(np.median(np.abs(x - np.median(x))))


def _strays(angle: Floats, t: Floats) -> NDArray[np.bool_]:
    """Which single pulses lie far off the straight line between their neighbours, beside what is usual."""
    off = np.zeros(t.size)
    share = (angle[1:-1] - angle[:-2]) / (angle[2:] - angle[:-2])
    off[1:-1] = t[1:-1] - (t[:-2] + share * (t[2:] - t[:-2]))
    beside = off - _local_median(off)
    size = np.abs(beside)
    most = np.maximum(size, np.maximum(np.roll(size, 1), np.roll(size, -1)))
    # Edges that are known to a sample only lie mostly in line, and the median of nothing is nothing: then nine tenths
    # of the sizes say what is usual (0.6 times their bound is one standard deviation, too, where they are normal).
    usual = max(_spread(beside), 0.6 * float(np.quantile(size, 0.9)))
    return np.asarray((size > 8 * usual) & (size == most))


def _course(angle: Floats, t: Floats) -> Callable[[Floats], tuple[Floats, Floats]]:
    """A smooth course of `angle` [revolutions] over times `t` [s]: a function that gives angle and revolutions per
    second at any time. A polynomial takes the sweep; what is left a cubic spline. A jitter of equal times is a jitter
    of angle that grows with speed: weights are one over speed. Beyond its ends the acceleration stays."""
    speed = np.maximum(_local_median(np.gradient(angle, t)), 1e-9)
    if t.size > MOST:  # neighbours taken together, whose mean moves as they do
        n = t.size // MOST + 1
        count = t.size // n
        angle, t, speed = (v[: count * n].reshape(count, n).mean(axis=1) for v in (angle, t, speed))
    sweep = np.polynomial.Chebyshev.fit(t, angle, min(14, max(t.size // 12, 2)), w=1 / speed)
    left = angle - sweep(t)
    scale = float(np.std(left)) or 1e-12
    rest = _white(t, left / scale, np.asarray(np.median(speed) / speed))
    first, bend = rest.derivative(), rest.derivative(2)
    ends = t[[0, -1]]
    accelerations = sweep.deriv(2)(ends) + scale * bend(ends)

    def course(at: Floats) -> tuple[Floats, Floats]:
        """Revolutions and revolutions per second."""
        held = np.clip(at, *ends)
        over = at - held
        gain = np.where(over < 0, accelerations[0], accelerations[1])
        slope = sweep.deriv()(held) + scale * first(held)
        return sweep(held) + scale * rest(held) + slope * over + gain * over**2 / 2, slope + gain * over

    return course


def _beyond(t: Floats, bounds: tuple[float, float] | None) -> tuple[float, float]:
    """From when to when [s] a rotation is told: one pulse further than the pulses `t` at both ends, where the shaft
    turned too, within the record."""
    first, last = 2 * t[0] - t[1], 2 * t[-1] - t[-2]
    if bounds is None:
        return float(first), float(last)
    return float(max(first, bounds[0])), float(min(last, bounds[1]))


def rotation_of(times: Floats, pulses_per_rev: float, bounds: tuple[float, float] | None = None) -> Rotation:
    """The rotation behind pulse times [s] of a record that lasts from and to `bounds` [s]. The angle over time is
    smoothed by a spline whose stiffness the pulses themselves decide, so that jitter does not modulate the orders;
    pulses far off it are taken out. Raises BadInput with fewer than eight pulses."""
    if times.size < LEAST:
        raise BadInput(f"tach: {times.size} pulses: no speed can be told; check trigger_level, slope and the cable.")
    number, t, missing, extra = repaired(times)
    angle = number / pulses_per_rev
    stray = _strays(angle, t)
    angle, t = angle[~stray], t[~stray]
    course = _course(angle, t)
    made, speed = course(t)
    off = (angle - made) / np.maximum(speed, 1e-9)
    begin, end = _beyond(t, bounds)
    fine = np.unique(np.concatenate([t, np.linspace(begin, end, max(4 * t.size, 400))]))
    fine = fine[(fine >= begin) & (fine <= end)]
    turned = np.maximum.accumulate(course(fine)[0])
    grid = np.linspace(turned[0], turned[-1], max(int(8 * (turned[-1] - turned[0])), 200))
    time = np.interp(grid, turned, fine)
    for _ in range(2):  # Newton's way to the moment of each angle
        at, slope = course(time)
        time = np.clip(time - (at - grid) / np.maximum(slope, 0.1 * float(np.median(speed))), begin, end)
    slope = course(time)[1]
    return Rotation(
        grid, np.maximum.accumulate(time), 1 / np.maximum(slope, 1e-3 * float(np.median(speed))), missing,
        extra + int(np.sum(stray)), float(np.std(off)),
    )  # fmt: skip
