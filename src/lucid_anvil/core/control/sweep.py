"""Sweeps: where the frequency is at a time, and how time, rate and number of sweeps hang together.

IEC 60068-2-6 names the sweep cycle (up and down) and the logarithmic rate in octaves a minute; the cycles
of one sweep are the integral of frequency over its time.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ..errors import BadInput
from ..signal.sinefit import Floats


@dataclass(frozen=True)
class Sweep:
    """One way from `start` to `stop` [Hz] in `duration` [s]; down when start is above stop."""

    start: float
    stop: float
    duration: float
    law: str = "log"

    @property
    def octaves(self) -> float:
        return abs(math.log2(self.stop / self.start))

    @property
    def cycles(self) -> float:
        """Cycles of the sweep: f₂−f₁ over the natural-log rate for log, the mean frequency times time for linear."""
        if self.law == "log":
            return (self.stop - self.start) / math.log(self.stop / self.start) * self.duration
        return (self.start + self.stop) / 2 * self.duration

    def frequency(self, t: Floats | float) -> Floats:
        """Hz at t seconds from its start; before and after, its ends."""
        x = np.clip(np.asarray(t, dtype=float) / self.duration, 0, 1)
        if self.law == "log":
            return np.asarray(self.start * np.exp(x * math.log(self.stop / self.start)))
        return np.asarray(self.start + (self.stop - self.start) * x)

    def phase(self, t: Floats | float) -> Floats:
        """rad turned since its start; the closed integral of the frequency."""
        x = np.asarray(t, dtype=float)
        if self.law == "log":
            k = math.log(self.stop / self.start) / self.duration
            return np.asarray(2 * np.pi * self.start * np.expm1(k * x) / k)
        k = (self.stop - self.start) / self.duration
        return np.asarray(2 * np.pi * (self.start * x + k * x * x / 2))

    def time_at(self, frequency: float) -> float:
        """s from its start until it is at a frequency [Hz]."""
        if self.law == "log":
            return self.duration * math.log(frequency / self.start) / math.log(self.stop / self.start)
        return self.duration * (frequency - self.start) / (self.stop - self.start)

    def rate_at(self, frequency: float) -> float:
        """Hz/s, without sign."""
        if self.law == "log":
            return frequency * abs(math.log(self.stop / self.start)) / self.duration
        return abs(self.stop - self.start) / self.duration


@dataclass(frozen=True)
class Sweeping:
    """A number of sweeps: how long one is, how many, and how long all take (the last one may be cut)."""

    one: Sweep
    direction: str
    """up, down or both (up and down in turn)"""
    count: float
    total: float
    """s"""

    def at(self, k: int) -> Sweep:
        """The k-th sweep, from 0."""
        down = self.direction == "down" or (self.direction == "both" and k % 2 == 1)
        if not down:
            return self.one
        return Sweep(self.one.stop, self.one.start, self.one.duration, self.one.law)


def sweeping(
    start: float, stop: float, *, law: str = "log", rate: float | None = None, duration: float | None = None,
    sweeps: float | None = None, total: float | None = None, cycles: float | None = None, direction: str = "up",
    whole: bool = False,
) -> Sweeping:  # fmt: skip
    """Any two of rate (or duration of one sweep), number of sweeps and total time fix the third.

    `rate` octaves/s for log, Hz/s for linear; `duration`, `total` s; `cycles` stands for a total. `whole`: a total
    is turned into the nearest number of whole sweeps; else the last sweep is cut. Raises BadInput.
    """
    for name, value in (("rate", rate), ("duration", duration), ("sweeps", sweeps), ("total", total),
                        ("cycles", cycles)):  # fmt: skip
        if value is not None and value <= 0:
            raise BadInput(f"sweep.{name}: it must be above zero.")
    if rate is not None and duration is not None:
        raise BadInput("sweep: give its rate or the duration of one sweep, not both.")
    if total is not None and cycles is not None:
        raise BadInput("give total or cycles, not both.")
    way = math.log2(stop / start) if law == "log" else stop - start
    if rate is not None:
        duration = way / rate
    if cycles is not None:
        if duration is None:
            raise BadInput("cycles: the sweep needs its rate or duration too.")
        total = duration * cycles / Sweep(start, stop, duration, law).cycles
    if duration is None:
        if total is None or sweeps is None:
            raise BadInput("sweep: give its rate, its duration, or a total with the number of sweeps.")
        duration = total / sweeps
    elif total is not None:
        if sweeps is not None:
            raise BadInput("sweeps, total, rate: two of them fix the third: leave one out.")
        sweeps = total / duration
        if whole:
            sweeps = float(max(1, round(sweeps)))
            total = sweeps * duration
    sweeps = 1.0 if sweeps is None else sweeps
    return Sweeping(Sweep(start, stop, duration, law), direction, sweeps, sweeps * duration if total is None else total)
