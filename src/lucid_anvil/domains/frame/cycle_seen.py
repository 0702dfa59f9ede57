"""What a run of pulses sees of each cycle while it comes, and the trend that it keeps of millions."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import numpy as np

from ...contracts.recording import Floats

CLOSE = 1.01
"""Ratio of cycle numbers by which points of a trend lie apart at least, from a hundred on"""


class CycleSeen:
    """Extremes of every channel, and the loop of force over displacement, of the cycle that is under way."""

    def __init__(self, roles: Sequence[str]) -> None:
        self.roles = tuple(roles)
        self._end: tuple[float, float] | None = None
        self.anew()

    def anew(self) -> None:
        """The next cycle begins."""
        self.low = dict.fromkeys(self.roles, math.inf)
        self.high = dict.fromkeys(self.roles, -math.inf)
        self.work, self.turn = 0.0, np.zeros(2, complex)
        self.begun: tuple[float, float] | None = None

    def add(self, held: Mapping[str, Floats], part: slice, phase: Floats) -> None:
        """Samples of it [N, m], and what share of a cycle each of them lies at."""
        force, way = held["force"][part], held["displacement"][part]
        if not force.size:
            return
        for role in self.roles:
            x = held[role][part]
            self.low[role] = min(self.low[role], float(x.min()))
            self.high[role] = max(self.high[role], float(x.max()))
        if self.begun is not None and self._end is not None:
            self.work += (force[0] + self._end[0]) / 2 * (way[0] - self._end[1])
        self.work += float((force[1:] + force[:-1]) @ np.diff(way)) / 2
        self.begun = self.begun or (float(force[0]), float(way[0]))
        self._end = (float(force[-1]), float(way[-1]))
        self.turn += np.array([force, way]) @ np.exp(-2j * np.pi * phase[part])

    @property
    def energy(self) -> float:
        """J, of the loop closed by a straight line."""
        if self.begun is None or self._end is None:
            return math.nan
        return self.work + (self._end[0] + self.begun[0]) / 2 * (self.begun[1] - self._end[1])

    @property
    def ratio(self) -> float:
        """N/m, of the fundamentals."""
        force, way = np.abs(self.turn)
        return float(force / way) if way > 0 else math.nan

    @property
    def angle(self) -> float:
        """Degrees by which the force leads."""
        return float(np.degrees(np.angle(self.turn[0] * np.conj(self.turn[1]))))

    def values(self) -> dict[str, float]:
        """As the table of a take and the columns of one's own name it."""
        made: dict[str, float] = {}
        for role in self.roles:
            low, high = self.low[role], self.high[role]
            made |= {f"{role}_max": high, f"{role}_min": low, f"{role}_swing": high - low}
        return {**made, "energy": self.energy, "ratio": self.ratio, "angle": self.angle}


def measured(row: Mapping[str, float], roles: Sequence[str]) -> list[tuple[str, list[float], str, float]]:
    """What a cycle showed of each channel: its name, largest, smallest and swing, their unit, and that in N or m."""
    made = []
    for role in roles:
        scale, unit = ((1e3, "kN") if abs(row["force_max"]) >= 1e3 else (1.0, "N")) if role == "force" else (1e-3, "mm")
        made.append((role, [row[f"{role}_{way}"] / scale for way in ("max", "min", "swing")], unit, scale))
    return made


def computed(
    row: Mapping[str, float], area: float | None, length: float | None
) -> list[tuple[str, str, list[float | None], str]]:
    """What follows from it: name, formula, largest, smallest and swing, their unit; of what is one figure a cycle the
    swing alone."""

    def three(role: str, by: float) -> list[float | None]:
        return [row[f"{role}_{way}"] / by for way in ("max", "min", "swing")]

    made: list[tuple[str, str, list[float | None], str]] = []
    swing = row["displacement_swing"]
    stiffness = row["force_swing"] / swing if swing > 0 else None
    if area:
        made.append(("Stress", "force / area", three("force", area * 1e6), "MPa"))
    if length:
        made.append(("Strain", "displacement / length", three("displacement", length / 100), "%"))
    made.append(("Stiffness", "force swing / displacement swing",
                 [None, None, None if stiffness is None else stiffness / 1e3], "N/mm"))  # fmt: skip
    if area and length and stiffness is not None:
        made.append(("Modulus", "stress swing / strain swing", [None, None, stiffness * length / area / 1e6], "MPa"))
    made.append(("Phase", "angle of the fundamentals", [None, None, row["angle"]], "°"))
    made.append(("Energy", "area of the loop", [None, None, row["energy"]], "J"))
    return made


class Trend:
    """One figure over the number of cycles, as dense in every decade, however many they are."""

    def __init__(self, points: Sequence[Sequence[float]] = ()) -> None:
        self.points = [(float(a), float(b)) for a, b in points]
        self.newest = self.points[-1] if self.points else None

    def add(self, number: float, value: float) -> None:
        self.newest = (number, value)
        if not self.points or number >= CLOSE * self.points[-1][0]:
            self.points.append(self.newest)

    @property
    def last(self) -> float | None:
        """Its newest value."""
        return None if self.newest is None else self.newest[1]

    def all(self) -> list[tuple[float, float]]:
        """With the newest at the end."""
        if self.newest is None or self.points[-1] == self.newest:
            return list(self.points)
        return [*self.points, self.newest]
