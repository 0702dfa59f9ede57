"""Uncertainty by the law of propagation (JCGM 100:2008, the GUM)."""

from __future__ import annotations

import math
from dataclasses import dataclass
from statistics import NormalDist

COVERAGE_PROBABILITY = 0.9545
"""The probability for which k = 2 holds with a normal distribution."""

DIVISORS = {
    "normal": 1.0,  # the entry is given as a standard uncertainty
    "normal k=2": 2.0,  # the entry is given as an expanded uncertainty
    "rectangular": math.sqrt(3.0),
    "triangular": math.sqrt(6.0),
    "u-shaped": math.sqrt(2.0),
}
"""What a half-width is divided by to be a standard uncertainty (JCGM 100, 4.3)."""


@dataclass(frozen=True)
class Entry:
    """One line of a budget.

    `half_width` is in the entry's own `unit`; times `sensitivity` (the partial derivative of the result in
    percent by that input) over the distribution's divisor it is the standard contribution in percent.
    `correlation` is how strongly the entry's error at one frequency goes with that at another (0 to 1); it
    decides what is left of it in a deviation, which is a ratio of two frequencies.
    """

    key: str
    label: str
    half_width: float
    unit: str = "%"
    distribution: str = "rectangular"
    sensitivity: float = 1.0
    dof: float = math.inf
    correlation: float = 1.0

    @property
    def contribution(self) -> float:
        """Standard uncertainty in percent of the result (or in degrees, in a budget of phase)."""
        return abs(self.half_width * self.sensitivity) / DIVISORS[self.distribution]


@dataclass(frozen=True)
class Budget:
    """A combined budget. Percent throughout (degrees for phase)."""

    entries: tuple[Entry, ...]
    combined: float
    """Combined standard uncertainty (JCGM 100, 5.1)."""
    dof: float
    """Effective degrees of freedom (Welch-Satterthwaite, JCGM 100, G.4)."""
    coverage: float
    expanded: float
    """Never below the declared capability."""
    floored: bool
    """True where the declared capability decided."""

    @property
    def dominant(self) -> Entry:
        """The entry with the largest contribution."""
        return max(self.entries, key=lambda e: e.contribution)

    def share(self, entry: Entry) -> float:
        """The entry's share of the variance, 0 to 1."""
        return (entry.contribution / self.combined) ** 2 if self.combined > 0 else 0.0


def coverage_factor(dof: float, probability: float = COVERAGE_PROBABILITY) -> float:
    """Two-sided quantile of the t distribution (JCGM 100, table G.2); 2.00 for endless degrees of freedom."""
    tail = (1 + probability) / 2
    if not math.isfinite(dof) or dof > 1e5:
        return NormalDist().inv_cdf(tail)
    from scipy.special import stdtrit

    return float(stdtrit(max(dof, 1.0), tail))


def mean_square_interval(dof: float, probability: float = COVERAGE_PROBABILITY) -> tuple[float, float]:
    """What a mean square of so many degrees of freedom is to be multiplied by for the least and the greatest that its
    expectation may be (Bendat & Piersol, Random Data, 8.4: chi-square over degrees of freedom)."""
    from scipy.special import chdtri

    tail = (1 - probability) / 2
    held = max(dof, 1.0)
    return float(held / chdtri(held, tail)), float(held / chdtri(held, 1 - tail))


def combine(entries: tuple[Entry, ...], capability: float = 0.0) -> Budget:
    """Combine uncorrelated entries; `capability` is the smallest expanded uncertainty the lab may state."""
    combined = math.sqrt(sum(e.contribution**2 for e in entries))
    down = sum(e.contribution**4 / e.dof for e in entries if math.isfinite(e.dof) and e.contribution > 0)
    dof = combined**4 / down if down > 0 else math.inf
    k = coverage_factor(dof)
    expanded = k * combined
    return Budget(entries, combined, dof, k, max(expanded, capability), expanded < capability)


def of_ratio(here: tuple[Entry, ...], there: tuple[Entry, ...], capability: float = 0.0) -> Budget:
    """Budget of (result here)/(result there), for a deviation against the reference frequency.

    Entries are paired by key. With u1, u2 and correlation r each leaves √(u1² + u2² − 2·r·u1·u2)
    (JCGM 100, 5.2); degrees of freedom are the smaller of the two.
    """
    other = {e.key: e for e in there}
    made = []
    for e in here:
        o = other.get(e.key)
        u1, u2 = e.contribution, o.contribution if o else 0.0
        r = e.correlation if o else 0.0
        left = math.sqrt(max(u1 * u1 + u2 * u2 - 2 * r * u1 * u2, 0.0))
        dof = min(e.dof, o.dof) if o else e.dof
        made.append(Entry(e.key, e.label, left, "%", "normal", 1.0, dof, e.correlation))
    return combine(tuple(made), capability)
