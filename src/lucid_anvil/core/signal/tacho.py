"""From tach pulses to speed and angle: crossings, repair of missing and extra pulses, a smooth course of rotation."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..errors import BadInput
from .sinefit import Floats

LEAST = 8
"""Pulses below which no speed is told."""
MOST = 3000
"""Points of the smoothed course; more pulses are taken together."""


def pulse_times(x: Floats, rate: float, level: float | None = None, rising: bool = True) -> Floats:
    """Times [s] at which a tach signal (n,) crosses `level` in one direction, straight between samples. A tenth of the
    swing of hysteresis, so that noise on an edge does not count twice; without a level the middle of the swing."""
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


def rotation_of(times: Floats, pulses_per_rev: float) -> Rotation:
    """The rotation behind pulse times [s]. The time of each pulse over its angle is smoothed by a cubic spline whose
    stiffness the pulses themselves decide (generalised cross-validation; Craven & Wahba, Numer. Math. 31, 1978), so
    that jitter does not modulate the orders. Raises BadInput with fewer than eight pulses."""
    from scipy.interpolate import CubicHermiteSpline, make_smoothing_spline

    if times.size < LEAST:
        raise BadInput(f"tach: {times.size} pulses: no speed can be told; check trigger_level, slope and the cable.")
    number, t, missing, extra = repaired(times)
    angle = number / pulses_per_rev
    pulses = angle, t
    if t.size > MOST:  # neighbours taken together, whose mean moves as they do
        n = t.size // MOST + 1
        count = t.size // n
        angle, t = (v[: count * n].reshape(count, n).mean(axis=1) for v in (angle, t))
    # A polynomial takes the course's sweep, which a spline's free ends would flatten; the spline takes what is left.
    begin, span = float(pulses[0][0]), float(pulses[0][-1] - pulses[0][0])
    course = np.polynomial.Chebyshev.fit(angle, t, min(14, max(t.size // 12, 2)))
    left = t - course(angle)
    scale = float(np.std(left)) or 1e-12
    rest = make_smoothing_spline(angle, left / scale)
    # Where the spline finds next to nothing, it would only bend the ends.
    scale *= float(np.std(left / scale - rest(angle)) < 0.93)
    # One pulse further at both ends, where the shaft turned too.
    more = 1 / pulses_per_rev
    grid = np.linspace(begin - more, begin + span + more, max(int(8 * span), 200))
    held = np.clip(grid, angle[0], angle[-1])
    time = course(grid) + scale * (rest(held) + rest.derivative()(held) * (grid - held))
    slope = course.deriv()(grid) + scale * rest.derivative()(held)
    jitter = float(np.std(pulses[1] - CubicHermiteSpline(grid, time, slope)(pulses[0])))
    return Rotation(grid, time, np.maximum(slope, 1e-9), missing, extra, jitter)
