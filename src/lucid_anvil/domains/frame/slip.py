"""An extensometer that slips or falls off: its length changes at once while neither crosshead nor force do; and one
that is pinned: it does not change while both do."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from ...contracts.recording import Floats

LEAST = 4e-6
"""m, of a slip that is told: finer than what a series of knife marks costs, coarser than any noise worth reading"""
TIMES = 12.0
"""Times its noise at rest that a slip must be"""
GIVES = 0.02
"""Share of the force that changes over a slip at most: where the specimen gives way the force goes with it"""


class SlipWatch:
    """Fed with blocks of extension, travel and force [m, m, N]; tells a slip within the block that it is in."""

    def __init__(self) -> None:
        self.noise = 0.0
        """m, standard deviation at rest"""
        self.before: Mapping[str, Floats] | None = None
        self.top = 0.0

    def rest(self, extension: Floats) -> None:
        """A block in which nothing moves."""
        self.noise = max(self.noise, float(np.std(extension)))

    def look(self, held: Mapping[str, Floats]) -> float | None:
        """By how much it slipped [m]; None where it did not. Over two samples, so that one between is no matter."""
        kept, self.before = self.before, {r: x[-2:] for r, x in held.items()}
        x, way, force = (
            np.concatenate([kept[r], held[r]]) if kept is not None else held[r]
            for r in ("extension", "displacement", "force")
        )
        if x.size < 3:
            return None
        step, along, fell = (v[2:] - v[:-2] for v in (x, way, force))
        self.top = max(self.top, float(np.abs(force).max()))
        least = max(LEAST, TIMES * self.noise) + 2 * np.abs(along)
        hit = (np.abs(step) > least) & (np.abs(fell) < GIVES * max(self.top, 1.0))
        if not hit.any():
            return None
        return float(step[int(np.argmax(np.where(hit, np.abs(step), 0.0)))])


STIFFEST = 1e12
"""Pa, that no specimen's modulus exceeds"""
GIVEN = 0.02
"""Share of the crosshead's way that any specimen takes, once its grips hold it"""
STILL = 0.1
"""Share of what it must have moved by at least, below which it stands still"""
BLOCKS = 4
"""in which it must stand still before that is said"""


class PinWatch:
    """Fed with blocks of extension, travel and force; tells an extensometer that does not move with its specimen."""

    def __init__(self, area: float, gauge: float, parallel: float, bite: float) -> None:
        """m² and m of the specimen; `bite` [N]: what its grips hold it with from where on its lengthening counts."""
        self.area, self.gauge, self.share, self.bite = area, gauge, gauge / parallel, bite
        self.begun: float | None = None
        self.blocks = 0

    def look(self, held: Mapping[str, Floats], noise: float) -> float | None:
        """The least that it must have moved by [m] where it stands still; `noise` [m]: its own, at rest."""
        force, shown = float(np.mean(held["force"])), float(np.mean(held["extension"]))
        least = force / self.area / STIFFEST * self.gauge
        if "displacement" in held and force > self.bite:
            way = float(np.mean(held["displacement"]))
            self.begun = way if self.begun is None else self.begun
            least = max(least, GIVEN * self.share * (way - self.begun))
        still = abs(shown) < max(STILL * least, 4 * noise / np.sqrt(held["extension"].size))
        told = least > max(LEAST, TIMES * noise) and still
        self.blocks = self.blocks + 1 if told else 0
        return least if self.blocks >= BLOCKS else None
