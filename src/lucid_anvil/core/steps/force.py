"""Characteristics and class of a force-proving instrument (ISO 376, 7 and 8)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from ..signal.sinefit import Floats

CLASSES: dict[float, tuple[float, float, float, float, float, float, float]] = {
    0.0: (0.05, 0.025, 0.025, 0.012, 0.07, 0.025, 0.01),
    0.5: (0.10, 0.05, 0.05, 0.025, 0.15, 0.05, 0.02),
    1.0: (0.20, 0.10, 0.10, 0.050, 0.30, 0.10, 0.05),
    2.0: (0.40, 0.20, 0.20, 0.10, 0.50, 0.20, 0.10),
}
"""By class (0 for 00) the greatest reproducibility, repeatability, interpolation, zero, reversibility, creep and
uncertainty of the calibration force, in % (ISO 376, table 2)"""
NAMES = ("reproducibility", "repeatability", "interpolation", "zero", "reversibility", "creep", "reference_uncertainty")


@dataclass(frozen=True)
class Series:
    """Readings of one series by nominal force [N], magnitudes: the unit's, less zero, brought to the nominal."""

    number: int
    position: str
    up: Mapping[float, float]
    down: Mapping[float, float]
    zero: float | None
    """Zero after less zero before, in the unit's unit; None where there is none after"""


@dataclass(frozen=True)
class Characteristics:
    """One value a step [%], in the order of `nominal` [N]; None where it was not measured."""

    nominal: Floats
    mean: Floats
    """X_r, mean of the rotated series"""
    fitted: Floats
    """X_a, of the polynomial"""
    coefficients: Floats
    """From the first order up, per N, N², ..."""
    repeatability: Floats | None
    reproducibility: Floats | None
    interpolation: Floats
    reversibility: Floats | None
    zero: float | None
    """%, of the largest magnitude over the series, with its sign"""
    rotated: int


def rotated_of(series: Sequence[Series]) -> list[Series]:
    """The first series in each position."""
    made: dict[str, Series] = {}
    for s in series:
        made.setdefault(s.position, s)
    return list(made.values())


def characterise(series: Sequence[Series], order: int) -> Characteristics:
    """ISO 376, 7.5: relative errors in % of the readings. `order` of the polynomial, without a constant."""
    turned = rotated_of(series)
    nominal = np.array(sorted(set.intersection(*(set(s.up) for s in turned)), key=abs))
    x = np.array([[s.up[f] for f in nominal] for s in turned])
    mean = x.mean(axis=0)
    scale = float(np.abs(nominal).max())
    powers = np.array([(nominal / scale) ** k for k in range(1, order + 1)]).T
    solved = np.linalg.lstsq(powers, mean, rcond=None)[0]
    fitted = powers @ solved
    same = [s for s in series if s.position == series[0].position][:2]
    repeat = None
    if len(same) == 2 and all(f in same[1].up for f in nominal):
        a, b = (np.array([s.up[f] for f in nominal]) for s in same)
        repeat = 100 * np.abs(b - a) / np.abs((a + b) / 2)
    spread = 100 * (x.max(axis=0) - x.min(axis=0)) / np.abs(mean) if len(turned) > 1 else None
    back = [[abs(s.down[f] - s.up[f]) / abs(s.up[f]) if f in s.down and f in s.up else np.nan for f in nominal]
            for s in series]  # fmt: skip
    both = np.array(back)
    there = np.isfinite(both).any(axis=0)
    reversal = None
    if there.any():
        reversal = np.full(nominal.size, np.nan)
        reversal[there] = 100 * np.nanmean(both[:, there], axis=0)
    zeros = [100 * s.zero / mean[-1] for s in series if s.zero is not None]
    return Characteristics(
        nominal, mean, fitted, solved / scale ** np.arange(1, order + 1), repeat, spread,
        100 * _ratio(mean - fitted, fitted), reversal, max(zeros, key=abs) if zeros else None, len(turned),
    )  # fmt: skip


def _ratio(a: Floats, b: Floats) -> Floats:
    return np.divide(a, b, out=np.full(a.size, np.nan), where=b != 0)


def class_of(figures: Mapping[str, float | None]) -> float | None:
    """The best class whose limits all figures [%] keep; those that were not measured do not count. None: worse than
    class 2."""
    for one, limits in CLASSES.items():
        held = dict(zip(NAMES, limits, strict=True))
        if all(v is None or abs(v) <= held[k] * (1 + 1e-9) for k, v in figures.items()):
            return one
    return None


def better_than(best: float | None) -> float:
    """The next better class; the best one of itself."""
    order = list(CLASSES)
    return order[-1] if best is None else order[max(order.index(best) - 1, 0)]


def costs(figures: Mapping[str, float | None], best: float | None) -> list[str]:
    """Which figures keep an instrument from the next better class."""
    if best == next(iter(CLASSES)):
        return []
    held = dict(zip(NAMES, CLASSES[better_than(best)], strict=True))
    return [k for k, v in figures.items() if v is not None and abs(v) > held[k] * (1 + 1e-9)]
