"""Rundowns of a torque tool, caught from one record (ISO 5393; ISO 6789 for tools that click)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..signal.sinefit import Floats

REBOUND = 0.1
"""s after a rundown within which a smaller one is its rebound"""
SMALLER = 0.6
"""Share of the torque before it, below which a rundown that follows at once is a rebound"""


@dataclass(frozen=True)
class Rundown:
    """One of them. Torque as a magnitude, angle from the first crossing of snug to the sample of the tool's torque."""

    start: float
    """s"""
    torque: float
    angle: float | None
    at: float
    """s, of the tool's torque"""


@dataclass(frozen=True)
class Caught:
    """What one record holds."""

    runs: tuple[Rundown, ...]
    rebounds: tuple[Rundown, ...]
    open: bool
    """Whether the record ends within a rundown, which is left out"""


def catch(
    torque: Floats, rate: float, threshold: float, click: bool, drop: float, angle: Floats | None, snug: float | None
) -> Caught:
    """Rundowns of `torque` [N·m, magnitudes]: each begins above `threshold` and ends below half of it. A tool's torque
    is the largest, or with `click` the first maximum after which torque falls by `drop` (a share) of it."""
    above = np.flatnonzero((torque[1:] > threshold) & (torque[:-1] <= threshold)) + 1
    if torque.size and torque[0] > threshold:
        above = np.concatenate([[0], above])
    below = np.flatnonzero(torque < 0.5 * threshold)
    made: list[Rundown] = []
    rebounds: list[Rundown] = []
    last = -1
    unfinished = False
    for a in above:
        if a < last:
            continue
        later = below[np.searchsorted(below, a) :]
        if not later.size:
            unfinished = True
            break
        b = int(later[0])
        part = torque[a:b]
        i = _click(part, drop) if click else int(np.argmax(part))
        run = Rundown(a / rate, float(part[i]), _angle(torque, angle, int(a), int(a) + i, snug), (a + i) / rate)
        near = made and a - last <= REBOUND * rate and run.torque < SMALLER * made[-1].torque
        (rebounds if near else made).append(run)
        last = b
    return Caught(tuple(made), tuple(rebounds), unfinished)


def _click(part: Floats, drop: float) -> int:
    top = np.maximum.accumulate(part)
    fallen = np.flatnonzero(part < (1 - drop) * top)
    return int(np.argmax(part[: int(fallen[0])])) if fallen.size else int(np.argmax(part))


def _angle(torque: Floats, angle: Floats | None, a: int, at: int, snug: float | None) -> float | None:
    if angle is None or snug is None:
        return None
    if snug < torque[a]:  # it lies on the flank that led here
        rest = np.flatnonzero(torque[:a] < snug)
        first = int(rest[-1]) + 1 if rest.size else 0
    else:
        met = np.flatnonzero(torque[a : at + 1] >= snug)
        if not met.size:
            return None
        first = a + int(met[0])
    return float(abs(angle[at] - angle[first]))
