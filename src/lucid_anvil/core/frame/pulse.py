"""What one pulse looks like: how fast it rises and falls, how wide it is, how long it rests before the next one."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..signal.sinefit import Floats

LOW, HALF, HIGH = 0.1, 0.5, 0.9
"""Shares of a pulse's height between which it rises, at which it is wide, below which it rests (as in IEC 60469)"""

BINS, OFTEN = 50, 3.0
"""Of the histogram, and times its mean that the fullest must hold to be a level"""


@dataclass(frozen=True)
class PulseMeasures:
    """Of one pulse; times in s, None where the record does not show both ends."""

    base: float
    top: float
    """The states that it goes from and to; least and greatest value where it stays in none"""
    least: float
    greatest: float
    rise: float | None
    """From a tenth to nine tenths of its height"""
    fall: float | None
    width: float | None
    """Above half of it"""
    rest: float | None
    """Below a tenth of it, until the next one rises"""
    risen: tuple[float, float] | None
    """s in the record at which it passed both, on its way up"""


def measure(x: Floats, rate: float, first: int, last: int) -> PulseMeasures:
    """The pulse that passes its middle upwards at sample `first` of `x` (n,), and whose next one does at `last`; before
    and after them the record goes on by half a pulse where it can. `rate` [Hz]."""
    base, top = states(x)
    low, half, high = (base + s * (top - base) for s in (LOW, HALF, HIGH))
    cycle = x[first:last]
    over = np.flatnonzero(cycle >= high) + first
    up, down = int(over[0]), int(over[-1])

    def before(level: float, up: int = up) -> float | None:
        """s of the last sample not above a level before it was risen; between two samples straight."""
        under = np.flatnonzero(x[:up] <= level)
        return None if not under.size else _crossing(x, int(under[-1]), level) / rate

    def after(level: float, start: int) -> float | None:
        under = np.flatnonzero(x[start:] <= level)
        return None if not under.size else _crossing(x, start + int(under[0]) - 1, level) / rate

    begun, risen = before(low), _crossing(x, up - 1, high) / rate if up else None
    fallen, gone = _crossing(x, down, high) / rate if down + 1 < x.size else None, after(low, down)
    left, right = before(half), after(half, down)
    rest = None
    later = np.flatnonzero(x[last:] >= high)
    if gone is not None and later.size and (again := before(low, last + int(later[0]))) is not None:
        rest = again - gone

    def apart(a: float | None, b: float | None) -> float | None:
        return None if a is None or b is None else b - a

    way = None if begun is None or risen is None else (begun, risen)
    ends = float(cycle.min()), float(cycle.max())
    return PulseMeasures(base, top, *ends, apart(begun, risen), apart(fallen, gone), apart(left, right), rest, way)


def states(x: Floats) -> tuple[float, float]:
    """The levels that a pulse stays at below and above the middle of its range (IEC 60469, histogram method); where it
    stays at none, as a triangle, its least and its greatest."""
    low, high = float(x.min()), float(x.max())
    if high <= low:
        return low, high
    counts, edges = np.histogram(x, BINS, (low, high))
    made = []
    for part, extreme in ((counts[: BINS // 2], low), (counts[BINS // 2 :], high)):
        at = int(np.argmax(part)) + (0 if extreme == low else BINS // 2)
        stays = counts[at] >= OFTEN * x.size / BINS
        made.append(float(edges[at] + edges[at + 1]) / 2 if stays else extreme)
    return made[0], made[1]


def _crossing(x: Floats, i: int, level: float) -> float:
    """Sample, with its fraction, at which a straight line from sample i to the next one passes a level."""
    a, b = float(x[i]), float(x[min(i + 1, x.size - 1)])
    return i + (min(max((level - a) / (b - a), 0.0), 1.0) if b != a else 0.0)
