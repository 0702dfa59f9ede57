"""The course of one pulse, from its least load (-1) to its greatest (1) and back."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from ...contracts.recording import Floats
from ...core.errors import BadInput

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
