"""A stress-strain curve and what is constructed on it (ISO 6892-1, ISO 527-1)."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ..signal.sinefit import Floats

LEVELS = 48
"""Levels of stress between which windows for the modulus are tried"""
LEAST = 0.15
"""Share of the strength that such a window spans at least"""
FOUND = 1.5
"""What the scatter of a window that was found is widened by: its ends lean towards what happens to be steep"""
FALL = 0.005
"""Share by which stress falls after an upper yield (ISO 6892-1, 3.10.1 leaves it open)"""
SMOOTH = 2e-4
"""Strain over which stress is smoothed at most to find yields"""


@dataclass(frozen=True)
class Line:
    """The modulus line: stress = slope·strain + offset, fitted to samples first..last."""

    slope: float
    offset: float
    first: int
    last: int
    error: float
    """Standard error of the slope, as a ratio"""
    noise: float
    """rms of stress about the line"""

    @property
    def foot(self) -> float:
        """Strain where the line meets zero stress."""
        return -self.offset / self.slope


def area_of(shape: str, size: dict[str, float]) -> float:
    """Original area [m²] of a round, flat or tubular specimen, its sizes in m (ISO 6892-1, 7)."""
    if shape == "round":
        return float(np.pi * size["diameter"] ** 2 / 4)
    if shape == "tube":
        return float(np.pi * (size["diameter"] ** 2 - size["inner_diameter"] ** 2) / 4)
    return size["width"] * size["thickness"]


def joined(extension: Floats, travel: Floats, off: float) -> tuple[Floats, int | None]:
    """Strain from the extensometer up to the first sample that reaches `off`; from there it changes as `travel` does,
    without a jump. Also that sample, None where it is never reached."""
    reached = np.flatnonzero(extension >= off)
    if not reached.size:
        return extension, None
    i = int(reached[0])
    made = extension.copy()
    made[i:] = extension[i] + (travel[i:] - travel[i])
    return made, i


def line_between(strain: Floats, stress: Floats, axis: Floats, low: float, high: float) -> Line | None:
    """Least-squares line through the samples from the last below `low` to the first that reaches `high`, both on
    `axis`; None where it is not reached, or holds fewer than three samples."""
    reached = np.flatnonzero(axis >= high)
    if not reached.size:
        return None
    last = int(reached[0])
    below = np.flatnonzero(axis[:last] < low)
    first = int(below[-1]) if below.size else 0
    return fitted(strain, stress, first, last)


def fitted(strain: Floats, stress: Floats, first: int, last: int) -> Line | None:
    """The line through samples first..last, both included."""
    x, y = strain[first : last + 1], stress[first : last + 1]
    if x.size < 3:
        return None
    dx = x - x.mean()
    spread = float(dx @ dx)
    if spread <= 0:
        return None
    slope = float(dx @ y) / spread
    rest = y - y.mean() - slope * dx
    if slope <= 0:
        return None
    noise = float(np.sqrt(rest @ rest / max(x.size - 2, 1)))
    # Residuals of a real curve go with their neighbours: fewer samples count than are there.
    near = float(rest[1:] @ rest[:-1]) / float(rest @ rest) if float(rest @ rest) > 0 else 0.0
    fewer = (1 + max(near, 0.0)) / max(1 - max(near, 0.0), 0.02)
    error = noise / np.sqrt(spread) * np.sqrt(fewer) / slope
    return Line(slope, float(y.mean() - slope * x.mean()), first, last, float(error), noise)


def straightest(strain: Floats, stress: Floats) -> Line | None:
    """The steepest window that is straight: toe, slip and yield only make it flatter. Of all windows between levels of
    stress, the one whose slope less twice its standard error is the largest; the longest of equal ones."""
    top = int(np.argmax(stress))
    if top < 8 or stress[top] <= 0:
        return None
    rising = np.maximum.accumulate(stress[: top + 1])
    levels = np.linspace(0.03, 0.9, LEVELS) * stress[top]
    at = np.unique(np.searchsorted(rising, levels))
    x, y = strain[: top + 1] - strain[0], stress[: top + 1]
    s1, sx, sy, sxx, sxy, syy = (
        np.concatenate([[0.0], np.cumsum(v)])
        for v in (np.ones(top + 1), x, y, x * x, x * y, y * y)
    )  # fmt: skip
    a, b = (v.ravel() for v in np.meshgrid(at, at, indexing="ij"))
    keep = (stress[b] - stress[a] >= LEAST * stress[top]) & (b - a >= 5)
    a, b = a[keep], b[keep]
    if not a.size:
        return None
    sums = (s1, sx, sy, sxx, sxy, syy)
    slope, error = _slopes(sums, a, b)
    middle = (a + b) // 2
    # What bends or jumps within a window is not straight, however steep.
    apart = np.abs(_slopes(sums, middle, b)[0] - _slopes(sums, a, middle)[0]) / 4
    worth = np.where(slope > 0, slope - 2 * error - apart, 0.0)
    best = float(worth.max())
    if best <= 0:
        return None
    equal = np.flatnonzero(worth >= best * (1 - 5e-4))
    one = int(equal[np.argmax((stress[b] - stress[a])[equal])])
    made = fitted(strain, stress, int(a[one]), int(b[one]))
    if made is None:
        return None
    # Nobody said where it is straight: what its two halves differ by is doubt too.
    half = (made.first + made.last) // 2
    halves = [fitted(strain, stress, *ends) for ends in ((made.first, half), (half, made.last))]
    slopes = [h.slope for h in halves if h is not None]
    bend = abs(slopes[1] - slopes[0]) / made.slope / 4 if len(slopes) == 2 else 0.0
    return replace(made, error=FOUND * float(np.hypot(made.error, bend)))


def _slopes(sums: tuple[Floats, ...], a: Any, b: Any) -> tuple[Floats, Floats]:
    """Slopes of lines through samples a..b of many windows at once, and their standard errors, from running sums."""
    n, mx, my, mxx, mxy, myy = (s[b + 1] - s[a] for s in sums)
    vx, vxy, vy = mxx - mx * mx / n, mxy - mx * my / n, myy - my * my / n
    good = vx > 0
    over = np.where(good, vx, 1.0)
    slope = np.where(good, vxy / over, 0.0)
    rest = np.maximum(vy - slope * vxy, 0.0) / np.maximum(n - 2, 1)
    return slope, np.sqrt(rest / over)


def proof(strain: Floats, stress: Floats, line: Line, shift: float, end: int) -> float | None:
    """Stress where the curve, beyond the window, first meets the modulus line shifted by `shift` of strain
    (ISO 6892-1, 13); None where it does not before sample `end`."""
    off = stress[line.last : end] - (line.slope * (strain[line.last : end] - shift) + line.offset)
    met = np.flatnonzero(off <= 0)
    if not met.size:
        return None
    i = int(met[0])
    if i == 0:
        return float(stress[line.last])
    w = off[i - 1] / (off[i - 1] - off[i])
    y = stress[line.last + i - 1 : line.last + i + 1]
    return float(y[0] + w * (y[1] - y[0]))


def break_at(stress: Floats, length: Floats, drop: float) -> int | None:
    """The first sample after the maximum at which stress is below (1 − `drop`) of it; unloading, where `length` falls
    with it, is none."""
    top = int(np.argmax(stress))
    low = stress < (1 - drop) * stress[top]
    low[: top + 1] = False
    for i in np.flatnonzero(low & ~np.concatenate([[False], low[:-1]])):
        # From where the fall began: a specimen that is unloaded gets shorter all the way down.
        high = np.flatnonzero(stress[top:i] >= 0.95 * float(np.max(stress[max(top, i - 2000) : i])))
        start = top + int(high[-1]) if high.size else top
        fall = length[start : i + 1]
        if fall.size >= 4 and fall[-1] < fall[0] and np.mean(np.diff(fall) <= 0) > 0.8:
            continue
        return int(i)
    return None


def smoothed(strain: Floats, stress: Floats) -> Floats:
    """Stress averaged over the samples within half of SMOOTH of strain on either side."""
    grown = np.maximum.accumulate(strain)
    low = np.searchsorted(grown, grown - SMOOTH / 2, "left")
    high = np.searchsorted(grown, grown + SMOOTH / 2, "right")
    reach = np.minimum(np.minimum(np.arange(strain.size) - low, high - 1 - np.arange(strain.size)), 250)
    reach = np.maximum(reach, 0)
    total = np.concatenate([[0.0], np.cumsum(stress)])
    i = np.arange(strain.size)
    return np.asarray((total[i + reach + 1] - total[i - reach]) / (2 * reach + 1))


def yields(strain: Floats, stress: Floats, line: Line, end: int) -> tuple[float, float] | None:
    """Upper and lower yield (ISO 6892-1, 3.10.1 and 3.10.2): the first maximum beyond the window after which it falls
    by FALL of it before it rises above it, and which it exceeds for good later; and the smallest stress between both,
    the first trough left out where a later one exists. None where there is no yield point."""
    s = smoothed(strain[:end], stress[:end])
    i = line.last
    peak = _peak(s, i, FALL)
    if peak is None:
        return None
    fallen = peak + int(np.flatnonzero(s[peak:] < (1 - FALL) * s[peak])[0])
    reach = max(3, int(np.sum(np.abs(strain[:peak] - strain[peak]) <= SMOOTH / 2)))
    upper = float(np.max(stress[max(line.last, peak - min(reach, 250)) : fallen + 1]))
    after = s[fallen:]
    top = int(np.argmax(after))
    if after[top] <= max(s[peak], upper):
        return None
    below = np.flatnonzero(after[:top] <= upper)
    stop = fallen + (int(below[-1]) + 1 if below.size else 0)
    start = _after_first_trough(s[fallen:stop], upper)
    return upper, float(np.min(stress[fallen + start : stop]))


def _peak(s: Floats, start: int, fall: float) -> int | None:
    """The first sample from `start` after which `s` falls by a share of it before it rises above it."""
    top = np.maximum.accumulate(s[start:])
    fallen = np.flatnonzero(s[start:] < (1 - fall) * top)
    if not fallen.size:
        return None
    return start + int(np.argmax(s[start : start + int(fallen[0]) + 1]))


def _after_first_trough(s: Floats, upper: float) -> int:
    """Where the second trough's stretch begins; 0 where there is but one."""
    low = np.minimum.accumulate(s)
    risen = np.flatnonzero(s > low + FALL * upper)
    if not risen.size:
        return 0
    e = int(risen[0])
    rough = float(np.median(np.abs(np.diff(s)))) if s.size > 2 else 0.0
    least = max(5e-4 * upper, 6 * rough)
    top = np.maximum.accumulate(s[e:])
    fallen = np.flatnonzero(s[e:] < top - least)
    if not fallen.size:
        return 0
    return e + int(np.argmax(s[e : e + int(fallen[0]) + 1]))


def energy(strain: Floats, stress: Floats, last: int) -> float:
    """Work per volume [J/m³] from where strain is nought to sample `last`."""
    x, y = strain[: last + 1], stress[: last + 1]
    above = np.flatnonzero(x >= 0)
    if not above.size:
        return 0.0
    i = int(above[0])
    made = float(np.trapezoid(y[i:], x[i:]))
    if i > 0 and x[i] > x[i - 1]:
        w = -x[i - 1] / (x[i] - x[i - 1])
        at = y[i - 1] + w * (y[i] - y[i - 1])
        made += float(0.5 * (at + y[i]) * x[i])
    return made
