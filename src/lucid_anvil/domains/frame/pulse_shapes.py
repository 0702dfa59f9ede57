"""The course of one pulse, from its least load (-1) to its greatest (1) and back."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from ...contracts.recording import Floats
from ...core.errors import BadInput
from ...core.frame import cycles

EDGE = 0.1
"""Share of a square pulse that each of its edges takes: no crosshead jumps"""
KNEES: dict[str, tuple[tuple[float, float], ...]] = {
    "triangle": ((0.0, -1.0), (0.5, 1.0), (1.0, -1.0)),
    "square": ((0.0, -1.0), (0.25 - EDGE / 2, -1.0), (0.25 + EDGE / 2, 1.0), (0.75 - EDGE / 2, 1.0),
               (0.75 + EDGE / 2, -1.0), (1.0, -1.0)),
}  # fmt: skip
"""Where straight pieces meet: share of the pulse, and load"""


@dataclass(frozen=True)
class Shape:
    """A pulse and the pause behind it; `start`: the share at which it first rises through its middle."""

    value: Callable[[Floats], Floats]
    """Over shares of a cycle, however many have gone"""
    slope: Callable[[Floats], Floats]
    """Its change with the share"""
    start: float


def shape_of(name: str, pause: float = 0.0, points: Sequence[Sequence[float]] = ()) -> Shape:
    """`pause`: share of a cycle in which it stays where the pulse began; `points`: of a shape that is given, rows of
    time and load in any units, the load scaled to reach from -1 to 1. Raises BadInput."""
    long = 1 - pause
    if name in ("sine", "haversine"):
        turn = 2 * np.pi
        base = (lambda v: np.sin(turn * v)) if name == "sine" else (lambda v: -np.cos(turn * v))
        rate = (lambda v: turn * np.cos(turn * v)) if name == "sine" else (lambda v: turn * np.sin(turn * v))
        return _with_pause(base, rate, 0.0 if name == "sine" else 0.25, long)
    at, load = np.array(KNEES[name] if name in KNEES else _scaled(points)).T
    steps = np.diff(load) / np.diff(at)
    rising = np.flatnonzero((load[:-1] < 0) & (load[1:] >= 0))
    i = int(rising[0])
    start = float(at[i] - load[i] / steps[i])

    def straight(v: Floats) -> Floats:
        return np.asarray(np.interp(v, at, load))

    def steep(v: Floats) -> Floats:
        return np.asarray(steps[np.clip(np.searchsorted(at, v, "right") - 1, 0, steps.size - 1)])

    return _with_pause(straight, steep, start, long)


def _scaled(points: Sequence[Sequence[float]]) -> list[tuple[float, float]]:
    if len(points) < 3:
        raise BadInput("pulse, points: give three rows of time and load at least, from one least load to the next.")
    at, load = np.array(points, float).T
    if np.any(np.diff(at) <= 0):
        raise BadInput("pulse, points: their times must rise from row to row.")
    if np.ptp(load) <= 0 or load[0] > load.min() or load[-1] > load.min() + 0.05 * np.ptp(load):
        raise BadInput("pulse, points: a pulse begins and ends at its least load.")
    load = np.append(load[:-1], load[0])
    return list(zip((at - at[0]) / np.ptp(at), 2 * (load - load.min()) / np.ptp(load) - 1, strict=True))


def _with_pause(
    base: Callable[[Floats], Floats], rate: Callable[[Floats], Floats], start: float, long: float
) -> Shape:
    def value(u: Floats) -> Floats:
        v = np.mod(u, 1.0) / long
        return np.where(v < 1, base(np.minimum(v, 1.0)), base(np.zeros(1))[0])

    def slope(u: Floats) -> Floats:
        v = np.mod(u, 1.0) / long
        return np.where(v < 1, rate(np.minimum(v, 1.0)) / long, 0.0)

    return Shape(value, slope, start * long)


POINTS = 240
"""Of a course that is taken from a record, at most"""


@dataclass(frozen=True)
class Course:
    """One pulse out of a record."""

    points: tuple[tuple[float, float], ...]
    """s from its least load, and load in the record's own unit"""
    off: float
    """What straight lines between them miss of the record at most, as a share of its height"""


def course_of(x: Floats, rate: float) -> Course:
    """The first whole pulse of a record (n,), from one least load to the next; of a record of one pulse, all of it.
    `rate` [Hz]. Raises BadInput."""
    if x.size < 8 or np.ptp(x) <= 0:
        raise BadInput("this channel holds no pulse: choose another.")
    if -x.min() > x.max():  # pressed, and recorded below zero
        x = -x
    period = cycles.period_of(x)
    edges = cycles.begins(x, period) if period is not None and period < 0.8 * x.size else np.zeros(0)
    a, b = 0, x.size - 1
    if edges.size >= 2:
        first, last = int(edges[0]), int(edges[1])
        half = max((last - first) // 2, 1)
        start = max(first - half, 0)
        a = start + int(np.argmin(x[start : first + 1]))
        middle = first + int(np.argmax(x[first:last]))
        b = middle + int(np.argmin(x[middle : last + 1]))
    part = x[a : b + 1]
    low, high = float(part.min()), float(part.max())
    if part.size < 4 or max(part[0], part[-1]) > low + 0.1 * (high - low):
        raise BadInput("this channel holds no whole pulse: it must begin and end at its least load.")
    keep = np.unique(np.linspace(0, part.size - 1, min(part.size, POINTS)).astype(int))
    made = part[keep].copy()
    made[0] = made[-1] = made.min()  # it is repeated: it ends where it began
    back = np.interp(np.arange(part.size), keep, made)
    off = float(np.max(np.abs(back - part))) / (high - low)
    rows = tuple((round(float(i) / rate, 9), float(f"{v:.6g}")) for i, v in zip(keep, made, strict=True))
    return Course(rows, off)
