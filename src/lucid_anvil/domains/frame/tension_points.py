"""A pull of which means are kept, as close as the strain that must be seen wants them, and every sample where it breaks
and where it rests. ISO 6892-1 (annex A) and ISO 527-1 (5.1.5) ask for so many points a second that stress and strain
move between two of them by no more than what is read."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ...contracts.recording import Channel, Floats
from ...core.calibration.characteristic import Characteristic

SLOWEST = 1.0
"""s that a point covers at most, where the crosshead stands"""
UNITS = {"force": "N"}
"""Of the columns by role; a length's is m"""


def rate_of(finest: float, speed: float, parallel: float) -> float:
    """Points a second that show every `finest` [ratio] of strain at a speed [m/s] of the crosshead: a specimen of
    `parallel` length [m] is strained no faster as long as it does not neck."""
    return max(speed / parallel / finest, 1 / SLOWEST)


class Points:
    """Means of the samples of a pull as they come, block by block."""

    def __init__(
        self, finest: float, parallel: float, rate: float, sensitivity: Mapping[str, float],
        curves: Mapping[str, Characteristic] | None = None,
    ) -> None:  # fmt: skip
        """`finest` as a ratio, `parallel` in m; `sensitivity`: V per unit of what is kept by role; `curves`: of those
        that were calibrated step by step, in its place."""
        self.finest, self.parallel, self.rate, self.sensitivity = finest, parallel, rate, sensitivity
        self.curves = curves or {}
        self.begun, self.count = 0.0, 0
        self.sums = dict.fromkeys(sensitivity, 0.0)

    def add(self, start: float, channels: Mapping[str, Floats], speed: float) -> list[dict[str, float]]:
        """The points that a block (V) which began at `start` [s] completes, while the crosshead goes at `speed`: when
        it was in the middle of each, how many samples it is the mean of, and what they were [N, m]."""
        many = max(int(self.rate / rate_of(self.finest, abs(speed), self.parallel)), 1)
        size = channels["force"].size
        made = []
        if many < size and self.count:
            made.append(self._point())
        if many >= size:
            if not self.count:
                self.begun = start
            self.count += size
            for role in self.sensitivity:
                self.sums[role] += float(channels[role].sum())
            return [*made, self._point()] if self.count + size > many else made
        edges = np.linspace(0, size, -(-size // many) + 1).astype(int)
        counts = np.diff(edges)
        t = start + (edges[:-1] + (counts - 1) / 2) / self.rate
        means = {r: self._in_units(r, np.add.reduceat(channels[r], edges[:-1]) / counts) for r in self.sensitivity}
        return [*made, *({"t": float(t[i]), "covers": float(counts[i]), **{r: float(m[i]) for r, m in means.items()}}
                         for i in range(counts.size))]  # fmt: skip

    def _point(self) -> dict[str, float]:
        made = {"t": self.begun + (self.count - 1) / 2 / self.rate, "covers": float(self.count)}
        made |= {role: float(self._in_units(role, np.array([s / self.count]))[0]) for role, s in self.sums.items()}
        self.count, self.sums = 0, dict.fromkeys(self.sums, 0.0)
        return made


    def _in_units(self, role: str, volts: Floats) -> Floats:
        """A mean of what the sensor gives as that of what it measures: within a point its curve is straight."""
        return self.curves[role].measured(volts) if role in self.curves else volts / self.sensitivity[role]


@dataclass(frozen=True)
class Series:
    """What is known of a pull, in the order of time."""

    t: Floats
    """s of the run"""
    covers: Floats
    """Samples that each point is the mean of"""
    values: Mapping[str, Floats]
    """By role"""
    missing: float = 0.0
    """s between the first and the last of which nothing is there"""
    apart: float = 0.0
    """By how much means and samples of the same stretch differ in force, as a share of the greatest"""


def series(
    raw: Mapping[str, Floats], rate: float, table: Mapping[str, Channel], marks: Sequence[Mapping[str, Any]]
) -> Series:
    """Samples [N, m] of the record where it was kept, means between. `table`: what was kept of all, by its columns."""
    n = next(iter(raw.values())).size
    t, covers = np.arange(n) / rate, np.ones(n)
    gaps = [m for m in marks if m.get("kind") == "gap"]
    if not gaps or not table:
        return Series(t, covers, raw)
    for gap in gaps:
        first = round(float(gap["t"]) * rate)
        t[first:] += float(gap["run"]) - t[first] if first < n else 0.0
    kept = {k: c.samples() for k, c in table.items()}
    half = kept["covers"] / 2 / rate
    lost = np.zeros(kept["t"].size, dtype=bool)
    for gap in gaps:  # what reaches into a piece is there in full
        begin, end = float(gap["run"]) - float(gap["lost"]), float(gap["run"])
        lost |= (kept["t"] - half > begin - 1.5 / rate) & (kept["t"] + half < end + 0.5 / rate)
    between = sum(float(g["lost"]) for g in gaps)
    missing = max(between - float(kept["covers"][lost].sum()) / rate, 0.0)
    order = np.argsort(np.concatenate([t, kept["t"][lost]]), kind="stable")
    values = {r: np.concatenate([x, kept[r][lost]])[order] for r, x in raw.items() if r in kept}
    return Series(np.concatenate([t, kept["t"][lost]])[order], np.concatenate([covers, kept["covers"][lost]])[order],
                  values, missing, _apart(raw["force"], t, kept, rate))  # fmt: skip


def _apart(force: Floats, t: Floats, kept: Mapping[str, Floats], rate: float) -> float:
    """Share of the greatest force by which means differ from samples that lie whole in one piece, rms."""
    n = kept["covers"].astype(int)
    first = np.searchsorted(t, kept["t"] - (n - 1) / 2 / rate - 0.25 / rate)
    last = first + n - 1
    there = (first < t.size) & (last < t.size)
    there[there] = np.abs(t[last[there]] - t[first[there]] - (n[there] - 1) / rate) < 0.5 / rate
    there[there] = np.abs(t[first[there]] - (kept["t"] - (n - 1) / 2 / rate)[there]) < 0.5 / rate
    if not there.any():
        return 0.0
    total = np.concatenate([[0.0], np.cumsum(force)])
    means = (total[last[there] + 1] - total[first[there]]) / n[there]
    off = float(np.sqrt(np.mean((means - kept["force"][there]) ** 2)))
    return off / max(float(np.abs(kept["force"]).max()), float(np.abs(force).max()), 1e-12)
