"""A chamber that leaves its set point: what is in it would be heated on with nobody knowing."""

from __future__ import annotations

from ...contracts.guard import Block, GuardKind, Sight, Watched


class ChamberBand:
    """The air off what was asked for, once it was near it: on its way there it may be far."""

    def __init__(self, _bench: Watched, limit: float) -> None:
        self.limit = limit
        self.asked: float | None = None
        self.near = False

    def __call__(self, now: Block) -> Sight:
        held = now.instruments or {}
        if "chamber" not in held:
            return Sight(0.0, 0.0, "chamber")
        air, asked = float(held["chamber"]), float(held["chamber_set"])
        off = air - asked
        # A ramp moves its set point by little; a step is a new way to go.
        if self.asked is not None and abs(asked - self.asked) > self.limit / 2:
            self.near = False
        self.asked = asked
        self.near = self.near or abs(off) < self.limit / 2
        if not self.near:
            return Sight(0.0, off, "chamber")
        beyond = abs(off) >= self.limit
        said = f"the chamber's air is {abs(off):.1f} K off its set point of {asked:.1f} °C" if beyond else None
        return Sight(abs(off) / self.limit, off, "chamber", said)


BAND = GuardKind("chamber_band", "Chamber off its set point", "K", ChamberBand, usual=15.0)
