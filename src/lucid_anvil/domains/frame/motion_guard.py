"""A crosshead that does not go as it is told: a valve that runs away, an encoder that stands, one of them turned round.

What was commanded and what the encoder shows are compared over a short stretch of time, which tells a valve that runs
away within a block or two, and a long one, which tells an encoder that stands while the crosshead creeps.
"""

from __future__ import annotations

from collections import deque

import numpy as np

from ...contracts.guard import Block, GuardKind, Sight, Watched

SHORT, LONG = 0.1, 3.0
"""s, at least two blocks"""
SHARE = 0.25
"""Of the way commanded, that the encoder may be off by: its scale and the valve's are two"""
LATE = 0.06
"""s by which the valve may lag: what it is off by while the speed changes"""
ROLE = "displacement"


class Motion:
    """Sums of one block after the other."""

    def __init__(self, bench: Watched, limit: float) -> None:
        self.limit = limit
        self.per_volt = float(bench.limits.get("frame_speed", 0.0))
        self.rate = bench.rate
        count = self.long = max(round(LONG * bench.rate / bench.block), 4)
        self.short = max(round(SHORT * bench.rate / bench.block), 2)
        self.seen: deque[tuple[float, float, float, float, float]] = deque(maxlen=count + 1)
        """Way commanded and its length, lowest and highest speed commanded, way shown"""
        self.last: float | None = None

    def __call__(self, now: Block) -> Sight:
        if ROLE not in now.channels or now.drive is None:
            return Sight(0.0, 0.0, ROLE)
        speed = self.per_volt * now.drive
        at = float(np.mean(now.channels[ROLE][-4:]))
        shown = 0.0 if self.last is None else at - self.last
        self.last = at
        self.seen.append((float(speed.sum()) / self.rate, float(np.abs(speed).sum()) / self.rate,
                          float(speed.min()), float(speed.max()), shown))  # fmt: skip
        worst, off, told = 0.0, 0.0, 0.0
        for n in (self.short, self.long):
            rows = np.array(list(self.seen)[-n - 1 :])
            speeds, rows = rows, rows[-n:]  # the speed just before it still runs out in it
            asked, path, shown = float(rows[:, 0].sum()), float(rows[:, 1].sum()), float(rows[:, 4].sum())
            allowed = SHARE * path + LATE * (float(speeds[:, 3].max()) - float(speeds[:, 2].min()))
            used = (abs(shown - asked) - allowed) / self.limit
            if used > worst:
                worst, off, told = used, shown - asked, asked
        beyond = worst >= 1
        said = (f"the crosshead's encoder shows {1e3 * (told + off):.2f} mm where {1e3 * told:.2f} mm were commanded:"
                " the valve, or the encoder or its sign") if beyond else None  # fmt: skip
        return Sight(worst, off, ROLE, said)


MOTION = GuardKind("frame_motion", "Crosshead off its command", "m", Motion, needs=("length",), usual=1e-4)
