"""Systematic errors drawn from the budget's own distributions, so that the stated doubt can be put to the test."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np

from ...core.calibration.uncertainty import DIVISORS
from ...core.quantities import parse
from ...core.signal.sinefit import Complexes, Floats

BY_SIGNAL = (
    "mounting", "cable", "base_strain", "mass_loading", "rocking", "conditioner", "magnetic", "temperature",
    "gain_ratio",
)  # fmt: skip
"""Sources that the stand-in can put into the unit's signal; the reference's errors lie in its certificate."""


def draw_one(rng: np.random.Generator, distribution: str) -> float:
    """One draw with half-width 1 (for `normal`: standard deviation 1; `normal k=2`: 0.5)."""
    if distribution.startswith("normal"):
        return float(rng.standard_normal()) / DIVISORS[distribution]
    if distribution == "rectangular":
        return float(rng.uniform(-1, 1))
    if distribution == "triangular":
        return float(rng.triangular(-1, 0, 1))
    return math.cos(rng.uniform(0, 2 * math.pi))


def half_width(given: Any, frequencies: Floats) -> Floats:
    """Half-width [%] at each frequency, from one value or rows of [Hz, value]."""
    if isinstance(given, (list, tuple)):
        f = np.array([parse(row[0], "Hz") for row in given])
        w = np.array([parse(row[1], "%") for row in given])
        return np.interp(np.log(np.maximum(frequencies, 1e-3)), np.log(f), w)
    return np.full_like(frequencies, parse(given, "%"), dtype=float)


class DrawnErrors:
    """One run's errors."""

    def __init__(self, sources: Sequence[Any], seed: int) -> None:
        rng = np.random.default_rng([seed, 77])
        self.parts = [
            (s.half_width, draw_one(rng, s.distribution), draw_one(rng, s.distribution))
            for s in sources
            if s.source in BY_SIGNAL
        ]
        self.angles = {role: float(rng.uniform(0, 2 * math.pi)) for role in ("reference", "unit", "transverse")}

    def factor(self, frequencies: Floats) -> Complexes:
        """What the unit's signal is multiplied by: magnitude by the first draw, phase by the second."""
        made = np.ones_like(frequencies, dtype=complex)
        for width, size, turn in self.parts:
            w = half_width(width, frequencies) / 100
            # The turn grows with frequency: a short filter can't turn the phase at low frequency without
            # spoiling the magnitude there.
            made *= (1 + w * size) * np.exp(1j * w * turn * np.tanh(frequencies / 2000.0))
        return made


def drawn_certificate(
    response: Sequence[tuple[float, float]], uncertainty: Any, correlation: float, drift: float, seed: int
) -> list[tuple[float, float]]:
    """A reference's certificate as a calibration with that doubt would have stated it.

    `response` true (Hz, sensitivity); `uncertainty` expanded, k = 2 [%]; `drift` half-width [%] since then.
    """
    rng = np.random.default_rng([seed, 78])
    f = np.array([row[0] for row in response])
    u = half_width(uncertainty, f) / 2 / 100
    common = rng.standard_normal()
    own = rng.standard_normal(f.size)
    off = u * (math.sqrt(correlation) * common + math.sqrt(1 - correlation) * own)
    moved = drift / 100 * rng.uniform(-1, 1)
    return [(float(a), float(s * (1 + e) * (1 + moved))) for (a, s), e in zip(response, off, strict=True)]


def errors_of(rig: Any) -> DrawnErrors | None:
    return DrawnErrors(rig.budget, rig.standin.seed) if rig.standin.draw_errors else None
