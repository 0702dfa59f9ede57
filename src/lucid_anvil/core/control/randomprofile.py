"""Random profiles: densities with straight lines on log-log axes between breakpoints (IEC 60068-2-64)."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from ..errors import BadInput
from ..signal.sinefit import Floats
from .corridor import Band
from .sineprofile import with_edges

DB_PER_OCTAVE = 1 / (10 * math.log10(2))
"""Exponent of a density slope of 1 dB/oct: 0.3322, so that 3 dB/oct is f^0.9966, not f¹."""


@dataclass(frozen=True)
class Point:
    """One breakpoint: frequency [Hz] and density [(m/s²)²/Hz], or slope [dB/oct] from the point before."""

    frequency: float
    density: float | None = None
    slope: float | None = None
    tolerance: Band | None = None
    abort: Band | None = None


@dataclass(frozen=True)
class RandomProfile:
    """Breakpoints solved. Bands belong to the stretch that begins at their point."""

    frequencies: tuple[float, ...]
    densities: tuple[float, ...]
    tolerances: tuple[Band | None, ...]
    aborts: tuple[Band | None, ...]

    @property
    def start(self) -> float:
        return self.frequencies[0]

    @property
    def stop(self) -> float:
        return self.frequencies[-1]

    def density(self, frequency: Floats) -> Floats:
        """(m/s²)²/Hz at each frequency [Hz]; zero outside the profile."""
        f = np.asarray(frequency, dtype=float)
        inside = (f >= self.start * (1 - 1e-12)) & (f <= self.stop * (1 + 1e-12))
        x = np.log(np.where(inside, f, self.start))
        made = np.exp(np.interp(x, np.log(self.frequencies), np.log(self.densities)))
        return np.where(inside, made, 0.0)

    def mean_square(self, power: int = 0) -> float:
        """Closed integral of density·(2πf)^power over the profile: 0 acceleration, −2 velocity, −4 displacement."""
        total = 0.0
        for f0, f1, s0, s1 in zip(
            self.frequencies, self.frequencies[1:], self.densities, self.densities[1:], strict=False
        ):
            n = math.log(s1 / s0) / math.log(f1 / f0) + power
            ratio = math.log(f1 / f0)
            scale = s0 * (2 * math.pi * f0) ** power * f0
            # ∫ (f/f0)ⁿ df = f0·expm1((n+1)·ln(f1/f0))/(n+1), and f0·ln(f1/f0) where n = −1
            m = n + 1
            total += scale * (ratio if abs(m) < 1e-12 else math.expm1(m * ratio) / m)
        return total

    def rms(self, quantity: str = "acceleration") -> float:
        """rms of acceleration [m/s²], velocity [m/s] or displacement [m]."""
        return math.sqrt(self.mean_square({"acceleration": 0, "velocity": -2, "displacement": -4}[quantity]))

    def scaled_to(self, rms: float) -> RandomProfile:
        """The same shape with another rms [m/s²]."""
        by = (rms / self.rms()) ** 2
        return replace(self, densities=tuple(s * by for s in self.densities))

    def edges(self, frequency: Floats, which: str) -> tuple[Floats, Floats]:
        """Lower and upper edge [(m/s²)²/Hz] of `tolerances` or `aborts`."""
        f = np.atleast_1d(np.asarray(frequency, dtype=float))
        target = self.density(f)
        at = np.clip(np.searchsorted(self.frequencies, f, side="right") - 1, 0, len(self.frequencies) - 1)
        low, high = np.zeros_like(f), np.full_like(f, np.inf)
        for i, band in enumerate(getattr(self, which)):
            mine = at == i
            if band is not None and mine.any():
                low[mine], high[mine] = band.edges(target[mine], power=True)
        return low, high

    def grid(self, per_octave: int = 24) -> Floats:
        """Frequencies [Hz] on a logarithmic grid that has every breakpoint."""
        return with_edges(self.frequencies, per_octave)


def solve(points: list[Point], rms: float | None = None) -> RandomProfile:
    """Breakpoints with all densities, scaled to `rms` [m/s²] where it is locked. Raises BadInput."""
    if len(points) < 2:
        raise BadInput("points: a random profile needs at least two.")
    densities: list[float] = []
    for i, point in enumerate(points):
        at = f"points, {i + 1}"
        if point.frequency <= 0 or (i and point.frequency <= points[i - 1].frequency):
            raise BadInput(f"{at}: {point.frequency:g} Hz: frequencies must be above zero and rise.")
        if (point.density is None) == (point.slope is None):
            raise BadInput(f"{at}: give its density, or its slope from the point before; not both.")
        if point.density is not None:
            if point.density <= 0:
                raise BadInput(f"{at}: the density must be above zero.")
            densities.append(point.density)
        elif i == 0:
            raise BadInput(f"{at}: the first point needs a density; a slope needs a point before it.")
        else:
            assert point.slope is not None
            ratio = point.frequency / points[i - 1].frequency
            densities.append(densities[-1] * ratio ** (point.slope * DB_PER_OCTAVE))
    made = RandomProfile(
        tuple(p.frequency for p in points), tuple(densities), tuple(p.tolerance for p in points),
        tuple(p.abort for p in points),
    )  # fmt: skip
    if rms is None:
        return made
    if rms <= 0:
        raise BadInput("rms: it must be above zero.")
    return made.scaled_to(rms)
