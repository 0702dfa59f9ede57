"""Sine profiles: segments that hold displacement, velocity or acceleration, or run straight on log-log axes.

A sine of frequency f has acceleration a, velocity a/(2πf) and displacement 2·a/(2πf)² peak to peak
(IEC 60068-2-6, annex A), so every segment is a power law a = a₀·(f/f₀)ⁿ with n = 2, 1, 0 or what its ends give,
and two constant laws cross where their power laws meet, in closed form.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ..errors import BadInput
from ..signal.sinefit import Floats
from .corridor import Band

EXPONENT = {"displacement": 2, "velocity": 1, "acceleration": 0}
NAMES = {
    "displacement": "constant displacement", "velocity": "constant velocity", "acceleration": "constant acceleration",
    "line": "straight line",
}  # fmt: skip


@dataclass(frozen=True)
class Segment:
    """One segment as it is written. `value` in m peak to peak, m/s or m/s² (peak); None for a line."""

    law: str
    value: float | None = None
    until: float | None = None
    """Hz; None: up to where it crosses the next law"""
    tolerance: Band | None = None
    abort: Band | None = None

    def at(self, frequency: float) -> float:
        """Acceleration [m/s² peak] at a frequency [Hz]."""
        assert self.value is not None
        w = 2 * math.pi * frequency
        return {"displacement": self.value / 2 * w * w, "velocity": self.value * w, "acceleration": self.value}[
            self.law
        ]


def crossover(first: Segment, second: Segment) -> float | None:
    """Hz where two constant laws give the same acceleration; None when they are of one kind and never do."""
    n, m = EXPONENT[first.law], EXPONENT[second.law]
    if n == m:
        return None
    # a₁·wⁿ = a₂·wᵐ with a₁, a₂ the accelerations at w = 1 rad/s
    one = 1 / (2 * math.pi)
    return (second.at(one) / first.at(one)) ** (1 / (n - m)) / (2 * math.pi)


@dataclass(frozen=True)
class Piece:
    """One segment solved: a = level·(f/low)^exponent between low and high."""

    law: str
    low: float
    high: float
    level: float
    """m/s² peak at `low`"""
    exponent: float
    tolerance: Band | None = None
    abort: Band | None = None

    def at(self, frequency: Floats | float) -> Floats:
        return np.asarray(self.level * (np.asarray(frequency, dtype=float) / self.low) ** self.exponent)


@dataclass(frozen=True)
class SineProfile:
    """A solved profile. `crossovers` [Hz] are those that were solved, not typed."""

    pieces: tuple[Piece, ...]
    crossovers: tuple[float, ...]

    @property
    def start(self) -> float:
        return self.pieces[0].low

    @property
    def stop(self) -> float:
        return self.pieces[-1].high

    def _which(self, frequency: Floats) -> np.ndarray:
        edges = np.array([p.high for p in self.pieces[:-1]])
        return np.searchsorted(edges, frequency, side="left")

    def level_at(self, frequency: float) -> float:
        """m/s² peak at one frequency [Hz], held within the profile's ends; quick, for use in every block."""
        f = min(max(frequency, self.start), self.stop)
        return float(next(p for p in self.pieces if f <= p.high).at(f))

    def acceleration(self, frequency: Floats | float) -> Floats:
        """m/s² peak at each frequency [Hz]; beyond the ends the end pieces go on."""
        f = np.atleast_1d(np.asarray(frequency, dtype=float))
        which = self._which(f)
        level, low, n = (np.array([getattr(p, k) for p in self.pieces]) for k in ("level", "low", "exponent"))
        made = level[which] * (f / low[which]) ** n[which]
        return made if np.ndim(frequency) else made[0]

    def velocity(self, frequency: Floats | float) -> Floats:
        """m/s peak."""
        return self.acceleration(frequency) / (2 * np.pi * np.asarray(frequency, dtype=float))

    def displacement(self, frequency: Floats | float) -> Floats:
        """m peak to peak."""
        return 2 * self.acceleration(frequency) / (2 * np.pi * np.asarray(frequency, dtype=float)) ** 2

    def peak(self, quantity: str) -> tuple[float, float]:
        """The largest acceleration, velocity or displacement and the frequency [Hz] where it is. A power law has
        its extremes at its ends."""
        best = (-1.0, 0.0)
        for p in self.pieces:
            for f in (p.low, p.high):
                a, w = float(p.at(f)), 2 * math.pi * f
                value = {"acceleration": a, "velocity": a / w, "displacement": 2 * a / w**2}[quantity]
                best = max(best, (value, f), key=lambda b: b[0])
        return best

    def edges(self, frequency: Floats, which: str) -> tuple[Floats, Floats]:
        """Lower and upper edge [m/s² peak] of `tolerance` or `abort`; 0 and infinity where there is none."""
        f = np.atleast_1d(np.asarray(frequency, dtype=float))
        target, at = self.acceleration(f), self._which(f)
        low, high = np.zeros_like(f), np.full_like(f, np.inf)
        for i, piece in enumerate(self.pieces):
            band: Band | None = getattr(piece, which)
            mine = at == i
            if band is not None and mine.any():
                low[mine], high[mine] = _in_acceleration(band, piece, f[mine], target[mine])
        return low, high

    def grid(self, per_octave: int = 24) -> Floats:
        """Frequencies [Hz] on a logarithmic grid that has every edge."""
        return with_edges([self.start, *(p.high for p in self.pieces)], per_octave)

    def scaled(self, by: float) -> SineProfile:
        """The profile at another level; absolute edges stay."""
        from dataclasses import replace

        return SineProfile(tuple(replace(p, level=p.level * by) for p in self.pieces), self.crossovers)


def with_edges(edges: Sequence[float], per_octave: int) -> Floats:
    """A logarithmic grid from the first to the last of rising `edges` [Hz] that has every one of them, once."""
    held = np.asarray(edges, dtype=float)
    count = max(2, math.ceil(per_octave * math.log2(held[-1] / held[0])) + 1)
    inner = np.geomspace(held[0], held[-1], count)[1:-1]
    own = inner[~np.isclose(inner[:, None], held, rtol=1e-9, atol=0).any(axis=1)]
    return np.sort(np.concatenate([held, own]))


def _in_acceleration(band: Band, piece: Piece, f: Floats, target: Floats) -> tuple[Floats, Floats]:
    """Edges as acceleration; an absolute edge is in the quantity that the segment holds."""
    w = 2 * np.pi * f
    by = {"displacement": w**2 / 2, "velocity": w}.get(piece.law, np.ones_like(w))
    low, high = band.edges(target / by)
    return low * by, high * by


def solve(start: float, stop: float, segments: list[Segment]) -> SineProfile:
    """Segments from `start` to `stop` [Hz] as power laws, crossovers solved exactly. Raises BadInput."""
    if not (0 < start < stop and math.isfinite(stop)):
        raise BadInput(f"start, stop: {start:g} Hz to {stop:g} Hz: start must be above zero and below stop.")
    if not segments:
        raise BadInput("segments: there is none: give at least one, like {acceleration: 10 m/s^2}.")
    ends, solved = _ends(start, stop, segments)
    pieces: list[Piece] = []
    low = start
    for i, (segment, high) in enumerate(zip(segments, ends, strict=True)):
        if segment.law == "line":
            a, b = float(pieces[-1].at(low)), segments[i + 1].at(high)
            exponent = math.log(b / a) / math.log(high / low)
            level = a
        else:
            exponent, level = float(EXPONENT[segment.law]), segment.at(low)
        pieces.append(Piece(segment.law, low, high, level, exponent, segment.tolerance, segment.abort))
        low = high
    return SineProfile(tuple(pieces), tuple(solved))


def _ends(start: float, stop: float, segments: list[Segment]) -> tuple[list[float], list[float]]:
    """Upper edge of each segment, and those of them that were solved."""
    ends: list[float] = []
    solved: list[float] = []
    low = start
    for i, segment in enumerate(segments):
        number, last = i + 1, i == len(segments) - 1
        following = None if last else segments[i + 1]
        if segment.law == "line":
            _check_line(i, segments)
        elif not segment.value or segment.value <= 0:
            raise BadInput(f"segments, {number}: the {segment.law} must be above zero.")
        if last:
            end = stop if segment.until is None else segment.until
            if abs(end / stop - 1) > 1e-9:
                raise BadInput(f"segments, {number}: the last one ends at {end:g} Hz, but stop is {stop:g} Hz.")
            end = stop
        elif segment.until is not None:
            end = segment.until
        else:
            assert following is not None
            if following.law == "line":
                raise BadInput(f"segments, {number}: before a line it needs 'until', where the line begins.")
            found = crossover(segment, following)
            if found is None:
                raise BadInput(
                    f"segments, {number}: two segments of constant {segment.law} never cross: give the first 'until'."
                )
            end = found
            solved.append(end)
        if not low < end <= stop or (not last and end >= stop):
            how = "crosses the next law" if segment.until is None and not last else "ends"
            raise BadInput(
                f"segments, {number}: it {how} at {end:.4g} Hz, outside {low:.4g} Hz to {stop:.4g} Hz:"
                " mend its value or its 'until'."
            )
        ends.append(end)
        low = end
    return ends, solved


def _check_line(i: int, segments: list[Segment]) -> None:
    if i == 0 or i == len(segments) - 1 or "line" in (segments[i - 1].law, segments[i + 1].law):
        raise BadInput(f"segments, {i + 1}: a line needs a constant segment on either side.")
    if segments[i].until is None:
        raise BadInput(f"segments, {i + 1}: a line needs 'until', where it ends.")
