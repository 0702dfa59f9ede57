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
KNOTS = (512.0, 256.0, 128.0, 64.0, 32.0, 16.0, 8.0, 4.0, 2.0, 1.0, 0.5)
"""Revolutions between the knots of the course's spline, the widest first."""
MOST = 3000
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


def _white(angle: Floats, y: Floats) -> Any:
    """The cubic spline with the widest knots over `angle` [revolutions] whose least-squares fit leaves of `y` nothing
    but noise: neighbours of what is left do not agree (lag-one autocorrelation; Box & Jenkins, Time Series Analysis,
    2.1.6)."""
    from scipy.interpolate import make_lsq_spline

    span = float(angle[-1] - angle[0])
    most = max(angle.size // 3, 1)
    made = None
    for wide in KNOTS:
        pieces = int(np.ceil(span / wide))
        if made is not None and pieces > most:
            break
        # Between the pulses where they are as dense as their number asks, so that each piece has its share.
        inner = np.quantile(angle, np.linspace(0, 1, min(pieces, most) + 1)[1:-1])
        made = make_lsq_spline(angle, y, np.concatenate([[angle[0]] * 4, inner, [angle[-1]] * 4]))
        left = y - made(angle)
        power = float(left @ left)
        if power <= 0 or float(left[1:] @ left[:-1]) / power < 0.1:
            break
    return made


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
    """A smooth course through times `t` [s] over `angle` [revolutions]: a function that gives time and s per turn at
    any angle. A polynomial takes the sweep, a spline what is left; beyond its ends it goes straight on."""
    if t.size > MOST:  # neighbours taken together, whose mean moves as they do
        n = t.size // MOST + 1
        count = t.size // n
        angle, t = (v[: count * n].reshape(count, n).mean(axis=1) for v in (angle, t))
    sweep = np.polynomial.Chebyshev.fit(angle, t, min(14, max(t.size // 12, 2)))
    left = t - sweep(angle)
    scale = float(np.std(left)) or 1e-12
    rest = _white(angle, left / scale)
    bend = rest.derivative()
    # Where the spline finds next to nothing, it would only bend the ends.
    scale *= float(_spread(left / scale - rest(angle)) < 0.93 * _spread(left / scale))

    def slope_at(held: Floats) -> Floats:
        return np.asarray(sweep.deriv()(held) + scale * bend(held))

    # Beyond an end the speed goes on changing as it did over the last thirtieth of the pulses there.
    ends = angle[[0, max(t.size // 30, 1)]], angle[[-1 - max(t.size // 30, 1), -1]]
    curves = [float(np.diff(slope_at(e))[0] / np.diff(e)[0]) for e in ends]

    def course(at: Floats) -> tuple[Floats, Floats]:
        """Time [s] and seconds per revolution."""
        held = np.clip(at, angle[0], angle[-1])
        over = at - held
        curve = np.where(over < 0, curves[0], curves[1])
        slope = slope_at(held)
        return sweep(held) + scale * rest(held) + slope * over + curve * over**2 / 2, slope + curve * over

    return course


def rotation_of(times: Floats, pulses_per_rev: float) -> Rotation:
    """The rotation behind pulse times [s]. The time of each pulse over its angle is smoothed by a spline whose knots
    the pulses themselves decide, so that jitter does not modulate the orders; pulses far off it are taken out. Raises
    BadInput with fewer than eight pulses."""
    if times.size < LEAST:
        raise BadInput(f"tach: {times.size} pulses: no speed can be told; check trigger_level, slope and the cable.")
    number, t, missing, extra = repaired(times)
    angle = number / pulses_per_rev
    stray = _strays(angle, t)
    angle, t = angle[~stray], t[~stray]
    course = _course(angle, t)
    off = t - course(angle)[0]
    # One pulse further at both ends, where the shaft turned too.
    more = 1 / pulses_per_rev
    span = float(angle[-1] - angle[0])
    grid = np.linspace(float(angle[0]) - more, float(angle[-1]) + more, max(int(8 * span), 200))
    time, slope = course(grid)
    return Rotation(grid, time, np.maximum(slope, 1e-9), missing, extra + int(np.sum(stray)), float(np.std(off)))
