"""Guards of a frame beside those of a channel's own limit: strain, and how fast load or length change."""

from __future__ import annotations

from collections import deque
from typing import Any

import numpy as np

from ...contracts.guard import Block, GuardKind, Look, Sight, Watched
from ...contracts.recording import Floats
from ...core.errors import BadInput

OVER = 0.1
"""s over which a rate is told, two blocks at least"""


class Strain:
    """Of the extensometer's gauge length, from where it stood before anything was driven."""

    def __init__(self, bench: Watched, limit: float) -> None:
        gauge = bench.control.get("gauge")
        if not gauge:
            raise BadInput("the guard 'strain' needs the specimen's gauge_length, which this test does not know: type"
                           " it on the drawing, or guard the extensometer's length instead.")  # fmt: skip
        self.limit, self.gauge = limit, float(gauge)
        self.role = bench.channel or "extension"
        self.zero: float | None = None
        self.driven = False

    def __call__(self, now: Block) -> Sight:
        if self.role not in now.channels:
            return Sight(0.0, 0.0, self.role)
        x = now.channels[self.role]
        self.driven = self.driven or (now.drive is not None and bool(np.any(now.drive)))
        if not self.driven:
            self.zero = float(np.mean(x)) if self.zero is None else 0.8 * self.zero + 0.2 * float(np.mean(x))
        value = 100 * float(np.max(np.abs(x - (self.zero or 0.0)))) / self.gauge
        return Sight(value / self.limit, value, self.role)


class Rate:
    """The slope of the straight line through the newest samples."""

    def __init__(self, bench: Watched, limit: float, kind: str, first: str, growing: bool) -> None:
        """`kind` of the input that is meant where none is named, the one in the role `first` before others; `growing`:
        whether only what gets larger counts, so that a break is none."""
        roles = [r for r, k in bench.kinds.items() if k == kind]
        self.role = bench.channel or (first if first in roles else next(iter(roles), first))
        self.limit, self.rate, self.growing = limit, bench.rate, growing
        self.blocks: deque[Floats] = deque(maxlen=max(round(OVER * bench.rate / bench.block), 2))

    def __call__(self, now: Block) -> Sight:
        if self.role not in now.channels:
            return Sight(0.0, 0.0, self.role)
        self.blocks.append(now.channels[self.role])
        if len(self.blocks) < (self.blocks.maxlen or 2):
            return Sight(0.0, 0.0, self.role)
        x = np.concatenate(self.blocks)
        t = (np.arange(x.size) - (x.size - 1) / 2) / self.rate
        slope = float(t @ x) / float(t @ t)
        counts = slope * np.sign(float(np.mean(x))) if self.growing else abs(slope)
        return Sight(max(float(counts), 0.0) / self.limit, slope, self.role)


def _rate(kind: str, first: str, growing: bool) -> Any:
    def begin(bench: Watched, limit: float) -> Look:
        return Rate(bench, limit, kind, first, growing)

    return begin


STRAIN = GuardKind("strain", "Strain", "%", Strain, needs=("length",))
FORCE_RATE = GuardKind("force_rate", "Rate of force", "N/s", _rate("force", "force", True), needs=("force",))
LENGTH_RATE = GuardKind("length_rate", "Speed", "m/s", _rate("length", "displacement", False), needs=("length",))
