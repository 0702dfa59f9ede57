"""Time-temperature superposition: frequency sweeps at several temperatures laid over one another by shifts along lg of
the frequency, and what the shifts follow (Ferry, Viscoelastic Properties of Polymers, 11; ISO 6721-1, 10).

A shift is found where two neighbouring temperatures have the same storage modulus, so their sweeps must overlap in it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ..errors import BadInput
from ..signal.sinefit import Floats

GAS = 8.31446261815324
"""J/(mol·K) (CODATA 2018)"""
ZERO = 273.15
GRID = 60
"""Moduli at which two sweeps are compared"""
LEAST = 0.05
"""Decades of modulus in which two sweeps must overlap"""


@dataclass(frozen=True)
class Sweep:
    """Storage modulus over frequency at one temperature."""

    temperature: float
    """°C"""
    frequency: Floats
    """Hz, rising"""
    storage: Floats
    """In any unit, the same for all; above zero"""


@dataclass(frozen=True)
class Law:
    """A law that shifts follow, with standard uncertainties; None where the shifts do not tell them."""

    values: tuple[float, ...]
    doubts: tuple[float, ...]
    rest: float
    """rms of lg aT that is left"""


@dataclass(frozen=True)
class Superposed:
    """Shifts of each temperature, and the laws that they follow."""

    reference: float
    """°C"""
    temperatures: tuple[float, ...]
    """°C, rising"""
    shifts: tuple[float, ...]
    """lg aT: a point at f lies at f·aT of the reference"""
    doubts: tuple[float, ...]
    """Standard uncertainty of each"""
    wlf: Law | None
    """c1 and c2 [K]: lg aT = −c1·(T − T0)/(c2 + T − T0) (Williams, Landel, Ferry 1955)"""
    arrhenius: Law | None
    """Activation energy [J/mol]: lg aT = Ea/(R·ln 10)·(1/T − 1/T0)"""


def superpose(sweeps: Sequence[Sweep], reference: float | None = None) -> Superposed:
    """Shifts re the temperature nearest to `reference` [°C], the middle one where none is given. Raises BadInput for
    fewer than two sweeps, two of one temperature, or neighbours that do not overlap."""
    held = sorted(sweeps, key=lambda s: s.temperature)
    if len(held) < 2:
        raise BadInput("A master curve needs sweeps at two temperatures at least.")
    heat = np.array([s.temperature for s in held])
    if np.any(np.diff(heat) < 0.05):
        raise BadInput("Two sweeps have the same temperature: leave one out.")
    steps = [_between(a, b) for a, b in zip(held[:-1], held[1:], strict=True)]
    at = int(np.argmin(np.abs(heat - reference))) if reference is not None else len(held) // 2
    whole = np.concatenate([[0.0], np.cumsum([s for s, _ in steps])])
    shifts = whole - whole[at]
    doubts = [float(np.sqrt(sum(u * u for _, u in steps[min(i, at) : max(i, at)]))) for i in range(len(held))]
    made = (float(heat[at]), tuple(map(float, heat)), tuple(map(float, shifts)), tuple(doubts))
    # Shifts share the steps between them: what one step is off by, all beyond it are.
    way = np.tril(np.ones((heat.size, heat.size - 1)), -1)
    way = way - way[at]
    cover = (way * np.array([u for _, u in steps]) ** 2) @ way.T
    return Superposed(*made, _wlf(heat, shifts, heat[at], cover), _arrhenius(heat, shifts, heat[at], cover))


def _between(cold: Sweep, warm: Sweep) -> tuple[float, float]:
    """lg aT of the warm sweep re the cold one, and its standard uncertainty by how much it differs over the moduli that
    both have."""
    lines = []
    for s in (cold, warm):
        y, x = np.log10(s.storage), np.log10(s.frequency)
        order = np.argsort(y)
        lines.append((y[order], x[order]))
    low, high = max(y[0] for y, _ in lines), min(y[-1] for y, _ in lines)
    if high - low < LEAST:
        both = f"{cold.temperature:.1f} and {warm.temperature:.1f} °C"
        raise BadInput(f"The sweeps at {both} do not overlap in their modulus: measure one between them, or more"
                       " frequencies.")  # fmt: skip
    grid = np.linspace(low, high, GRID)
    apart = np.interp(grid, *lines[0]) - np.interp(grid, *lines[1])
    # As many points as the coarser sweep has in the overlap are independent, not as many as the grid.
    count = max(min(int(np.sum((y >= low) & (y <= high))) for y, _ in lines), 3)
    scatter = float(np.std(apart, ddof=1) / np.sqrt(count - 1))
    # Between its points a sweep is bent, and nobody measured how: straight lines against smooth ones tell by how much.
    bent = _smooth(*lines[0], grid) - _smooth(*lines[1], grid)
    return float(np.mean(bent)), float(np.hypot(scatter, np.mean(bent - apart)))


def _smooth(y: Floats, x: Floats, at: Floats) -> Floats:
    """lg frequency at moduli, along a curve that rises as its points do (Fritsch & Carlson 1980)."""
    from scipy.interpolate import PchipInterpolator

    rising = np.concatenate([[True], np.diff(y) > 0])
    return np.asarray(PchipInterpolator(y[rising], x[rising])(at)) if rising.sum() > 2 else np.interp(at, y, x)


def _wlf(heat: Floats, shifts: Floats, reference: float, known: Floats) -> Law | None:
    """`known`: covariance of the shifts."""
    from scipy.optimize import curve_fit

    d = heat - reference
    if d.size < 4:
        return None

    def law(x: Floats, c1: float, c2: float) -> Floats:
        return -c1 * x / (c2 + x)

    try:
        (c1, c2), _ = curve_fit(law, d, shifts, p0=(17.4, max(51.6, 2 * float(-d.min()))), maxfev=4000)
    except RuntimeError:
        return None
    if c2 + d.min() <= 0:
        return None
    slopes = np.column_stack([-d / (c2 + d), c1 * d / (c2 + d) ** 2])
    return _law(np.array([c1, c2]), slopes, shifts - law(d, c1, c2), known)


def _arrhenius(heat: Floats, shifts: Floats, reference: float, known: Floats) -> Law | None:
    if heat.size < 3:
        return None
    x = (1 / (heat + ZERO) - 1 / (reference + ZERO)) / (GAS * np.log(10))
    energy = float(x @ shifts / (x @ x))
    return _law(np.array([energy]), x[:, None], shifts - energy * x, known)


def _law(found: Floats, slopes: Floats, rest: Floats, known: Floats) -> Law | None:
    """A law fitted by least squares; `slopes` (shifts, parameters) at it. Its doubts are those that the shifts bring
    (JCGM 102, 6.2), or what they scatter by where that is more, widened as so few degrees of freedom want it."""
    from scipy.stats import t

    inverse = np.linalg.pinv(slopes)
    brought = np.diag(inverse @ known @ inverse.T)
    free = rest.size - 1 - found.size  # the reference lies on it by itself
    wide = float(t.ppf(0.97725, free)) / 2 if free > 0 else np.inf
    scattered = np.diag(inverse @ inverse.T) * float(rest @ rest) / max(free, 1)
    doubts = np.sqrt(np.maximum(brought, scattered * wide**2 if free > 0 else brought))
    if not np.isfinite(doubts).all():
        return None
    return Law(tuple(map(float, found)), tuple(map(float, doubts)), float(np.sqrt(np.mean(rest**2))))
