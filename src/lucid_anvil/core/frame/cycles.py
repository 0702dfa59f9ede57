"""Cycles of a pulsed specimen, told apart by the force, and what each of them shows."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..signal.sinefit import Floats

SMOOTH_TOP = 0.15
"""Share of a swing by which a maximum may stand above its neighbours and still be round: then it is interpolated"""
LEAST, MOST = 128, 2048
"""Points at which each cycle is sampled anew for its loop"""
REACH = 9.0
"""Standard deviations of noise that a swing must go beyond; noise alone hardly goes as far in a thousand samples"""
PLENTY = 16.0
"""Samples of a cycle from which noise can be told from it"""
CHUNK = 2_000_000
"""Points of loops held at a time"""


def period_of(force: Floats) -> float | None:
    """Samples of a cycle, from the strongest line of the force; None where nothing repeats."""
    from scipy.signal import detrend

    n = min(force.size, 1 << 20)
    if n < 16:
        return None
    x = detrend(force[:n])
    if not np.any(x):
        return None
    power = np.abs(np.fft.rfft(x * np.hanning(n), 2 * n)) ** 2
    power[:3] = 0
    top = int(np.argmax(power))
    return None if power[top] <= 0 else 2 * n / top


def begins(force: Floats, period: float) -> Floats:
    """Positions [samples, between them too] at which the force rises through the mean of the extremes around it, each
    a cycle's begin and the end of the one before. Crossings by noise are one: between two of them the force goes a
    fifth of the swing below the mean and above it."""
    from scipy.ndimage import maximum_filter1d, minimum_filter1d

    size = max(int(1.2 * period) | 1, 3)
    high, low = maximum_filter1d(force, size, mode="nearest"), minimum_filter1d(force, size, mode="nearest")
    mean, swing = (high + low) / 2, high - low
    off = force - mean
    least = 0.2 * swing
    # A stretch at rest has no cycles, however its noise crosses.
    live = swing > max(0.02 * float(np.max(swing)), REACH * _noise(force, period))
    state = np.where(live & (off > least), 1, np.where(live & (off < -least), -1, 0))
    told = np.flatnonzero(state)
    if told.size < 2:
        return np.zeros(0)
    # Where the extremes around it change at once, as at the end, a force at rest gets above their mean without rising.
    least_rise = 0.1 * np.minimum(swing[told[1:]], swing[told[:-1]])
    rises = force[told[1:]] - force[told[:-1]] > least_rise
    turns = np.flatnonzero((state[told[:-1]] < 0) & (state[told[1:]] > 0) & rises)
    made = []
    for a, b in zip(told[turns], told[turns + 1], strict=True):
        part = off[a : b + 1]
        i = int(np.flatnonzero((part[:-1] < 0) & (part[1:] >= 0))[0])
        made.append(a + i + float(-part[i] / (part[i + 1] - part[i])))
    return np.array(made)


def _noise(force: Floats, period: float) -> float:
    """Standard deviation of what goes from sample to sample, by third differences, which leave next to nothing of a
    cycle of sixteen samples; nought where a cycle has fewer."""
    if period < PLENTY or force.size < 8:
        return 0.0
    return float(np.median(np.abs(np.diff(force, 3)))) / (0.6745 * np.sqrt(20.0))


def extremes(x: Floats, edges: Floats) -> tuple[Floats, Floats]:
    """Largest and smallest value of each cycle; round tops between samples are interpolated by a parabola."""
    starts = np.ceil(edges[:-1]).astype(int)
    stops = np.maximum(np.floor(edges[1:]).astype(int), starts)
    high, low = np.empty(starts.size), np.empty(starts.size)
    for i, (a, b) in enumerate(zip(starts, stops, strict=True)):
        part = x[a : b + 1]
        swing = float(part.max() - part.min())
        high[i] = _top(x, a + int(np.argmax(part)), swing)
        low[i] = -_top(-x, a + int(np.argmin(part)), swing)
    return high, low


def _top(x: Floats, i: int, swing: float) -> float:
    if not 0 < i < x.size - 1:
        return float(x[i])
    a, b, c = float(x[i - 1]), float(x[i]), float(x[i + 1])
    bend = a - 2 * b + c
    if bend >= 0 or max(a, c) > b or b - min(a, c) > SMOOTH_TOP * swing or b - min(a, c) < 0.002 * swing:
        return b
    return b - (a - c) ** 2 / (8 * bend)


@dataclass(frozen=True)
class Loops:
    """One value a cycle."""

    energy: Floats
    """Area of the loop, closed by a straight line; positive where it is lost"""
    ratio: Floats
    """Fundamental of the force over that of the displacement"""


def loops(force: Floats, displacement: Floats, edges: Floats) -> Loops:
    """Energy [N·m] and the ratio of the fundamentals [N/m] of each cycle."""
    count = edges.size - 1
    length = float(np.median(np.diff(edges)))
    m = int(min(max(LEAST, round(length)), MOST))
    energy, ratio = np.empty(count), np.empty(count)
    turn = np.exp(-2j * np.pi * np.arange(m) / m)
    chunk = max(CHUNK // m, 1)
    for a in range(0, count, chunk):
        b = min(a + chunk, count)
        at = edges[a:b, None] + (edges[a + 1 : b + 1] - edges[a:b])[:, None] * np.arange(m + 1) / m
        f, x = (_at(v, at, length) for v in (force, displacement))
        energy[a:b] = np.sum((f[:, 1:] + f[:, :-1]) / 2 * np.diff(x, axis=1), axis=1)
        energy[a:b] += (f[:, 0] + f[:, -1]) / 2 * (x[:, 0] - x[:, -1])
        first = np.abs(f[:, :-1] @ turn), np.abs(x[:, :-1] @ turn)
        ratio[a:b] = first[0] / np.where(first[1] > 0, first[1], np.nan)
    return Loops(energy, ratio)


def _at(x: Floats, at: Floats, length: float) -> Floats:
    """Values between samples: by a cubic where a cycle has few, else straight."""
    low = max(int(at[0, 0]) - 8, 0)
    high = min(int(at[-1, -1]) + 9, x.size)
    where = np.arange(low, high)
    if length < LEAST:
        from scipy.interpolate import CubicSpline

        return np.asarray(CubicSpline(where, x[low:high])(at))
    return np.asarray(np.interp(at.ravel(), where, x[low:high]).reshape(at.shape))


def at_rest(force: Floats, x: Floats, edges: Floats, cycle: int) -> float:
    """Value of `x` at the smallest magnitude of force in a cycle, counted from 0."""
    a = int(np.ceil(edges[cycle]))
    b = max(int(np.floor(edges[cycle + 1])), a)
    return float(x[a + int(np.argmin(np.abs(force[a : b + 1])))])
