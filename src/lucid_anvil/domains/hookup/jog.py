"""A crosshead moved by hand: only while somebody holds the key, slowly, and not into anything."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

import numpy as np

from ...contracts.method import Facts
from ...core.signal.sinefit import Floats

HELD = 0.4
"""s for which an order to move counts: released or lost, it stands"""
STARTS, STOPS = 0.3, 0.1
"""s in which it comes to its speed, and to rest from it"""
REST = 0.5
"""s at the beginning in which the force at rest is taken"""


class Jog:
    """How fast the crosshead is moved now [m/s], and which way it may."""

    def __init__(self, fastest: float, crush: float, facts: Facts) -> None:
        self.per_volt = facts.limits.get("frame_speed", 0.0)
        self.there = self.per_volt != 0.0
        """Whether there is a crosshead at all"""
        reach = 0.98 * facts.source_range * abs(self.per_volt)
        self.fastest = min(fastest, reach) if self.there else 0.0
        self.crush = crush
        self.span, self.block = facts.block / facts.rate, facts.block
        self.force = next((i for i in facts.inputs if i.kind == "force"), None)
        self.speed = self.wanted = 0.0
        self.until = -math.inf
        self.zero, self.blocks = 0.0, 0
        self.load = 0.0
        """N from where it was at the beginning"""
        self.shut = 0
        """Sign of the way that leads into something; 0: both are open"""
        self.last = 0
        """Sign of the way that it went last"""

    def heed(self, order: Mapping[str, Any], t: float) -> None:
        """An order to move, at a speed with its sign; it counts for `HELD` s."""
        asked = min(max(float(order["speed"]), -self.fastest), self.fastest)
        self.wanted, self.until = asked, t + HELD

    def feel(self, channels: Mapping[str, Floats]) -> None:
        """What the load cell shows; the first half second is its rest."""
        if self.force is None:
            return
        now = float(np.mean(channels[self.force.role])) * self.force.scale
        if self.blocks * self.span < REST:
            self.blocks += 1
            self.zero += (now - self.zero) / self.blocks
        self.load = now - self.zero
        if abs(self.load) < 0.8 * self.crush:
            self.shut = 0
        elif abs(self.load) >= self.crush and self.shut == 0:
            self.shut = self.last

    def next_block(self, t: float) -> Floats:
        """Volts of the next block; nothing jumps."""
        before = self.speed
        wanted = self.wanted if t < self.until else 0.0
        if self.shut and wanted * self.shut > 0:
            wanted = 0.0
        stops = wanted * before <= 0 or abs(wanted) < abs(before)
        most = self.fastest * self.span / (STOPS if stops else STARTS)
        goal = 0.0 if wanted * before < 0 else wanted  # through rest, where it turns round
        self.speed = before + min(max(goal - before, -most), most)
        if self.speed:
            self.last = 1 if self.speed > 0 else -1
        line = before + (self.speed - before) * np.arange(1, self.block + 1) / self.block
        return np.asarray(line / self.per_volt) if self.there else np.zeros(self.block)

    def live(self) -> dict[str, Any]:
        """What a face shows."""
        return {"speed": self.speed, "fastest": self.fastest, "load": self.load if self.force else None,
                "crush": self.crush, "shut": self.shut}  # fmt: skip
