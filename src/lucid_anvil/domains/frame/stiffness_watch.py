"""Whether force against length is still what it was a moment ago, while a frame drives by one of them.

A load cell that loses half of its sensitivity lets a loop that holds force press twice as hard, and every force that is
read looks right. Force over length tells it: a specimen softens from cycle to cycle, it does not jump. One that does
has torn; either way the frame is to rest before anything is corrected by it.
"""

from __future__ import annotations

import math
from collections import deque
from typing import Any

LEAST = math.log(1.22)
"""ln of a jump that counts at least: 18 % lost, 22 % gained"""
COARSE = math.log(1.4)
"""The same while amplitudes still grow: filled rubber is softer the further it is moved"""
ACROSS = math.log(2.0)
"""The same from one size of pulses to another: what is made of rubber differs by that much at most"""
STEEP = 3.0
"""Times what it glided by before, a jump must be: through a transition stiffness falls fast, but evenly"""


class StiffnessWatch:
    """Fed with stiffness, one value a cycle or a window; tells a jump in the second value after it at the latest."""

    def __init__(self) -> None:
        self.seen: deque[float] = deque(maxlen=4)

    def forget(self) -> None:
        """What comes now is measured in another way: at another frequency, say."""
        self.seen.clear()

    @staticmethod
    def across(before: float, after: float) -> float | None:
        """The factor from the stiffness at one size of pulses to that at another, where no such change explains it."""
        if not (before > 0 and after > 0):
            return None
        return after / before if abs(math.log(after / before)) > ACROSS else None

    def jump(self, stiffness: float, least: float = LEAST) -> float | None:
        """The factor by which it jumped, ln of which is `least` at least; None where it did not, or where there is
        nothing before it."""
        if not (stiffness > 0 and math.isfinite(stiffness)):
            return None
        self.seen.append(math.log(stiffness))
        if len(self.seen) < 2:
            return None
        now, before = self.seen[-1], self.seen[max(len(self.seen) - 3, 0)]
        glide = 2 * abs(before - self.seen[0]) if len(self.seen) > 3 else 0.0
        by = now - before
        return math.exp(by) if abs(by) > max(least, STEEP * glide) else None


def trip_of(by: float) -> dict[str, Any]:
    """The end of a run whose stiffness jumped `by` a factor."""
    way = "fell" if by < 1 else "rose"
    return {
        "guard": "stiffness", "action": "cut", "channel": "force",
        "label": f"Force against length {way} at once: the specimen gave way, or a sensor or its lead did",
        "value": 100 * (by - 1), "limit": 100 * (math.exp(LEAST) - 1), "unit": "%",
    }  # fmt: skip
