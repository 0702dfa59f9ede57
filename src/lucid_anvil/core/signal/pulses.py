"""What can be read off a stretch of time data: levels, peak to peak, pulses (terms of IEEE Std 181)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .sinefit import Floats

TWO_STATES = 0.5
"""Share of the samples that must lie near the two states before a signal is taken for pulses"""


@dataclass(frozen=True)
class Figures:
    """Of one stretch; times in seconds, levels in the signal's unit."""

    least: float
    greatest: float
    mean: float
    rms: float
    """about zero"""
    pulses: int
    rise: float | None
    """transition duration from 10 to 90 % of the amplitude, median of all"""
    width: float | None
    """pulse duration at half amplitude, median"""
    rest: float | None
    """pulse separation at half amplitude, median"""

    @property
    def peak_to_peak(self) -> float:
        return self.greatest - self.least


def state_levels(x: Floats) -> tuple[float, float]:
    """Low and high state of a signal (n,): the fullest bins of its histogram's lower and upper half (IEEE Std 181,
    5.2.1)."""
    low, high = float(x.min()), float(x.max())
    if high <= low:
        return low, high
    counts, edges = np.histogram(x, 100, (low, high))
    centre = (edges[:-1] + edges[1:]) / 2
    return float(centre[int(np.argmax(counts[:50]))]), float(centre[50 + int(np.argmax(counts[50:]))])


def _crossings(x: Floats, level: float, hysteresis: float) -> tuple[Floats, Floats]:
    """Sample numbers at which x rises and falls through a level, between samples; a swing back of less than the
    hysteresis does not count."""
    state = np.where(x > level + hysteresis, 1, np.where(x < level - hysteresis, -1, 0))
    known = np.flatnonzero(state)
    turns = known[1:][state[known[1:]] != state[known[:-1]]]
    up: list[float] = []
    down: list[float] = []
    for i in turns:
        back = int(i)
        rising = state[i] > 0
        while back > 0 and (x[back - 1] > level) == rising:
            back -= 1
        if back == 0:
            continue
        at = back - 1 + (level - x[back - 1]) / (x[back] - x[back - 1])
        (up if rising else down).append(float(at))
    return np.array(up), np.array(down)


def figures(x: Floats, rate: float) -> Figures:
    """Of a stretch (n,) sampled at `rate` [Hz]. Pulses are told where the amplitude stands clear of the noise."""
    least, greatest = float(x.min()), float(x.max())
    mean, rms = float(x.mean()), float(np.sqrt(np.mean(x**2)))
    low, high = state_levels(x)
    amplitude = high - low
    near = np.mean((np.abs(x - low) < 0.1 * amplitude) | (np.abs(x - high) < 0.1 * amplitude))
    if amplitude <= 0 or near < TWO_STATES:
        return Figures(least, greatest, mean, rms, 0, None, None, None)
    half = low + amplitude / 2
    up, down = _crossings(x, half, 0.1 * amplitude)
    if not up.size:
        return Figures(least, greatest, mean, rms, 0, None, None, None)
    width = [float(d[0] - u) for u in up if (d := down[down > u]).size]
    rest = [float(u[0] - d) for d in down if (u := up[up > d]).size]
    ten, ninety = low + 0.1 * amplitude, low + 0.9 * amplitude
    rise = []
    for u in up:
        a, b = int(u), int(u) + 1
        while a > 0 and x[a] > ten:
            a -= 1
        while b < x.size - 1 and x[b] < ninety:
            b += 1
        if x[a] <= ten < x[a + 1] and x[b - 1] < ninety <= x[b]:
            begin = a + (ten - x[a]) / (x[a + 1] - x[a])
            end = b - 1 + (ninety - x[b - 1]) / (x[b] - x[b - 1])
            rise.append(float(end - begin))

    def usual(values: list[float]) -> float | None:
        return float(np.median(values)) / rate if values else None

    return Figures(least, greatest, mean, rms, int(up.size), usual(rise), usual(width), usual(rest))
