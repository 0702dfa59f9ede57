"""Tolerance and abort bands around a target: in decibels, percent or absolute, different above and below."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..signal.sinefit import Floats


@dataclass(frozen=True)
class Side:
    """How far one edge lies from the target."""

    value: float
    """dB or % (signed), or the edge itself in the target's unit"""
    kind: str
    """db, percent or absolute"""

    def edge(self, target: Floats, power: bool) -> Floats:
        """The edge at each target; `power`: the target is a density, so decibels count tenfold (else twentyfold)."""
        if self.kind == "db":
            return target * 10 ** (self.value / (10.0 if power else 20.0))
        if self.kind == "percent":
            return target * (1 + self.value / 100)
        return np.full_like(target, self.value)


@dataclass(frozen=True)
class Band:
    """A lower and an upper edge; either may be missing."""

    low: Side | None = None
    high: Side | None = None

    def edges(self, target: Floats, power: bool = False) -> tuple[Floats, Floats]:
        """Lower and upper edge at each target; 0 and infinity where there is none."""
        x = np.asarray(target, dtype=float)
        low = np.zeros_like(x) if self.low is None else np.maximum(self.low.edge(x, power), 0.0)
        high = np.full_like(x, np.inf) if self.high is None else self.high.edge(x, power)
        return low, high


def abort_inside(
    frequency: Floats, tolerance: tuple[Floats, Floats], abort: tuple[Floats, Floats]
) -> tuple[float, float] | None:
    """Lowest and highest frequency [Hz] at which an abort edge lies inside the tolerance's, so that a test would be cut
    while nothing is wrong with it; None where it never does. Edges as `Band.edges` gives them."""
    with np.errstate(invalid="ignore"):
        below = (tolerance[0] > 0) & (abort[0] > tolerance[0] * (1 + 1e-9))
        above = np.isfinite(tolerance[1]) & (abort[1] < tolerance[1] * (1 - 1e-9))
    at = np.asarray(frequency)[below | above]
    return (float(at[0]), float(at[-1])) if at.size else None
