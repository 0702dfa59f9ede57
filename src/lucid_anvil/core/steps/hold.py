"""A pressure held: what it loses, with temperature taken out."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..signal.sinefit import Floats

KELVIN = 273.15


@dataclass(frozen=True)
class Trend:
    """A straight line by least squares."""

    slope: float
    """per s"""
    error: float
    """Standard error of the slope; what goes with its neighbours counts as fewer readings"""
    start: float
    end: float
    """Of the line, at both ends of the window"""


def trend(t: Floats, y: Floats, start: float, end: float) -> Trend:
    """Line through `y` at times `t` [s], which may be uneven; values at `start` and `end`."""
    dt = t - t.mean()
    spread = float(dt @ dt)
    slope = float(dt @ y) / spread if spread > 0 else 0.0
    rest = y - y.mean() - slope * dt
    power = float(rest @ rest)
    near = max(float(rest[1:] @ rest[:-1]) / power, 0.0) if power > 0 else 0.0
    fewer = (1 + near) / max(1 - near, 2 / t.size)
    error = np.sqrt(power / max(t.size - 2, 1) / spread * fewer) if spread > 0 else 0.0
    ends = (float(y.mean() + slope * (x - t.mean())) for x in (start, end))
    return Trend(slope, float(error), *ends)


def gas(pressure: Floats, temperature: Floats, mean: float, atmosphere: float) -> Floats:
    """Gauge pressure [Pa] that the gas would have at the mean temperature: (p + atmosphere)·T0/T − atmosphere, with
    temperatures in °C (law of ideal gases at constant volume)."""
    return np.asarray((pressure + atmosphere) * (mean + KELVIN) / (temperature + KELVIN) - atmosphere)


def liquid(pressure: Floats, temperature: Floats, mean: float, coefficient: float) -> Floats:
    """Pressure [Pa] less what temperature does to it: p − coefficient·(T − T0), coefficient in Pa/K."""
    return np.asarray(pressure - coefficient * (temperature - mean))


def gaps(t: Floats, share: float = 5.0) -> list[tuple[float, float]]:
    """Begin and end [s] of each gap longer than `share` median steps."""
    steps = np.diff(t)
    if not steps.size:
        return []
    long = np.flatnonzero(steps > share * float(np.median(steps)))
    return [(float(t[i]), float(t[i + 1])) for i in long]
