"""Source impedance and damping factor from load on and load off (IEC 60268-3, 14.6), with the meter's resolution."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ..calibration.uncertainty import coverage_factor
from ..signal.sinefit import Floats


@dataclass(frozen=True)
class Level:
    """Voltage in one step."""

    time: float
    """s, its middle"""
    loaded: bool
    value: float
    """V rms"""
    standard: float
    """Standard uncertainty [V] of noise"""
    still: bool
    """Whether the readings stood still, so that the resolution is not averaged out"""
    count: int


@dataclass(frozen=True)
class SourceImpedance:
    """`low` and `high` are the ends of the doubt, k = 2; `high` of the damping factor is endless where the impedance
    can't be told from zero."""

    value: float
    low: float
    high: float
    damping: float | None
    damping_low: float
    damping_high: float
    unloaded: float
    loaded: float


def decimal_grid(values: Floats) -> float:
    """The coarsest power of ten that all values are whole multiples of; 0 where there is none above a millionth of the
    largest."""
    top = float(np.max(np.abs(values), initial=0.0))
    if top <= 0:
        return 0.0
    for power in range(math.floor(math.log10(top)), math.floor(math.log10(top)) - 7, -1):
        grid = 10.0**power
        if np.all(np.abs(values / grid - np.rint(values / grid)) < 1e-4 + 1e-9 * np.abs(values / grid)):
            return grid
    return 0.0


def level_of(readings: Floats, time: float, loaded: bool, resolution: float) -> Level:
    """A step's level from meter readings [V rms]."""
    n = readings.size
    spread = float(readings.std(ddof=1)) if n > 1 else 0.0
    # Few readings tell their spread badly: Student's factor for them instead of 2 (JCGM 100, G.3).
    standard = spread / math.sqrt(n) * (coverage_factor(n - 1) / 2 if n > 1 else 1.0)
    return Level(time, loaded, float(readings.mean()), standard, spread < resolution / 2, n)


def source_impedance(levels: list[Level], rated: float, load: float, resolution: float,
                     load_doubt: float = 0.0) -> SourceImpedance:  # fmt: skip
    """Z = R·(U0/U1 − 1) with U0 without load and U1 with it, R = `load` [ohm] as measured, hot; damping factor =
    `rated` [ohm] over Z.

    A resolution [V] is a rectangular half step on each level, not made smaller by averaging while readings stand still.
    `load_doubt` [ohm, expanded]. With three steps and more a drift that is straight in time is taken out. Raises
    ValueError without a step of each kind.
    """
    on = np.array([s.loaded for s in levels])
    if on.all() or not on.any():
        raise ValueError("a step with load and one without are needed")
    t = np.array([s.time for s in levels])
    u = np.array([s.value for s in levels])
    rows = [(~on).astype(float), on.astype(float)]
    if len(levels) >= 3 and np.ptp(t) > 0 and _parted(on):
        rows.append((t - t.mean()) / np.ptp(t))
    held = np.linalg.pinv(np.array(rows).T)
    u0, u1 = float(held[0] @ u), float(held[1] @ u)
    if u1 <= 0:
        raise ValueError("there is no voltage with the load on")
    # By propagation: each level's noise, and its half step where nothing averages it out.
    half = np.array([resolution / 2 / (1 if s.still else math.sqrt(s.count)) for s in levels])
    into = load * (held[0] / u1 - held[1] * u0 / u1**2)
    z = load * (u0 / u1 - 1)
    variance = float(np.sum((into * np.array([s.standard for s in levels])) ** 2))
    # Readings of one kind that stand still are rounded alike, however often they are taken.
    variance += sum(float(np.sum(np.abs(into[kind]) * half[kind])) ** 2 / 3 for kind in (on, ~on))
    u_load = load_doubt / 2 * (u0 / u1 - 1)
    doubt = 2 * math.sqrt(variance + u_load**2)
    low, high = z - doubt, z + doubt
    return SourceImpedance(
        z, low, high,
        rated / z if low > 0 else None,
        rated / high if high > 0 else math.inf,
        rated / low if low > 0 else math.inf,
        u0, u1,
    )  # fmt: skip


def _parted(on: np.ndarray) -> bool:
    """Whether load and time can be told apart: one of the two kinds lies on both sides of the other."""
    where = np.flatnonzero(on)
    other = np.flatnonzero(~on)
    return bool(other.min() < where.min() and other.max() > where.max()) or bool(
        where.min() < other.min() and where.max() > other.max()
    )
