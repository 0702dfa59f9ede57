"""A pull over time: force, and the lengths beside each other, so that one sees why travel is not extension."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from ...contracts.finding import Curve
from ...contracts.method import Axis
from ...contracts.recording import Floats
from ...contracts.samples import points
from .shared import thinned

VIEWS = (
    Axis("force", "Force", ("force",), "s", "kN"),
    Axis("lengths", "Lengths", ("length_*",), "s", "mm"),
)
NAMES = {"extension": "Extension", "displacement": "Travel", "corrected": "Travel less the machine's"}
"""Of the lengths, in their order"""
MOST = 400
"""Points of a live curve"""
ELASTIC = (0.3, 0.95)
"""Shares of the newest stress between which the growing line is drawn through the curve"""


def lengths_of(force: Floats, values: Mapping[str, Floats], compliance: float) -> dict[str, Floats]:
    """Lengths [m] by role, the travel also without what frame and grips give way by (m/N) where that is known."""
    made = {r: values[r] for r in ("extension", "displacement") if r in values}
    if compliance > 0 and "displacement" in made:
        made["corrected"] = made["displacement"] - compliance * force
    return made


def over_time(t: Floats, force: Floats, lengths: Mapping[str, Floats]) -> tuple[Curve, ...]:
    """Curves of a record; s, force [N], lengths [m]."""
    keep = thinned(force.size, 2000)
    at = points(t[keep])
    return (
        Curve("force", "Force", at, points(force[keep] / 1e3), "s", "kN"),
        *(Curve(f"length_{r}", NAMES[r], at, points(1e3 * x[keep]), "s", "mm") for r, x in lengths.items()),
    )


class GrowingCourse:
    """The same while it grows, a point a block."""

    def __init__(self, compliance: float) -> None:
        self.compliance = compliance
        self.t: list[float] = []
        self.force: list[float] = []
        self.lengths: dict[str, list[float]] = {}

    def add(self, t: float, held: Mapping[str, Floats]) -> None:
        """The end of a block: N and m."""
        force = float(np.mean(held["force"][-8:]))
        self.t.append(t)
        self.force.append(force / 1e3)
        now = {r: np.array([float(np.mean(held[r][-8:]))]) for r in ("extension", "displacement") if r in held}
        for role, x in lengths_of(np.array([force]), now, self.compliance).items():
            self.lengths.setdefault(role, []).append(1e3 * float(x[0]))

    def curves(self) -> dict[str, dict[str, list[list[float]]]]:
        """By view and name: x and y."""
        step = max(len(self.t) // MOST, 1)
        t = self.t[::step]
        made = {"force": {"Force": [t, self.force[::step]]}}
        if self.lengths:
            made["lengths"] = {NAMES[r]: [t, x[::step]] for r, x in self.lengths.items()}
        return made


def growing_line(curve: Sequence[tuple[float, float]]) -> tuple[float, float] | None:
    """Slope [MPa/%] and offset [MPa] of the line through the upper part of a curve of strain [%] and stress [MPa] that
    still rises straight; None where there is too little of it."""
    if len(curve) < 8:
        return None
    strain, stress = np.array(curve).T
    top = float(stress.max())
    there = (stress > ELASTIC[0] * top) & (stress < ELASTIC[1] * top)
    if there.sum() < 5 or np.ptp(strain[there]) <= 0:
        return None
    slope, offset = np.polyfit(strain[there], stress[there], 1)
    return (float(slope), float(offset)) if slope > 0 else None
