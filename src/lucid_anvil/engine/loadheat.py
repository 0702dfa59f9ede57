"""How hot the loads get: the energy into each against its thermal model, corrected by what the bank measures."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..core.signal.sinefit import Floats
from ..rig.model import LoadRating

AHEAD = 1.0
"""s that the guard looks ahead at the power of the moment"""
AMBIENT = 23.0
TRUST = 0.1
"""Share by which a look at the bank's own temperature corrects the model"""


@dataclass
class LoadHeat:
    """Temperatures [°C] of the loads, one a channel."""

    rating: LoadRating
    now: dict[str, float] = field(default_factory=dict)
    power: dict[str, float] = field(default_factory=dict)
    seen: Mapping[str, Any] | None = None

    def add(self, channels: Mapping[str, Floats], shown: Mapping[str, Any] | None, seconds: float) -> None:
        """One block: volts by channel, and what the instruments last showed."""
        resistance = (shown or {}).get("resistance", {})
        fan = 1.0 if (shown or {}).get("fan", True) else 3.0
        for name, volts in channels.items():
            if name not in resistance and shown is not None:
                continue
            ohm = resistance.get(name) if shown is not None else self.rating.lowest
            watts = float(np.mean(volts**2)) / ohm if ohm else 0.0
            at = self.now.get(name, AMBIENT)
            self.power[name] = watts
            self.now[name] = at + self._rate(at, watts, fan) * seconds
        if shown is not None and shown is not self.seen:
            for name, t in shown["temperature"].items():
                if name in self.now:
                    self.now[name] += TRUST * (t - self.now[name])
            self.seen = shown

    def _rate(self, at: float, watts: float, fan: float = 1.0) -> float:
        """K/s"""
        return (watts - (at - AMBIENT) / (fan * self.rating.resistance)) / self.rating.capacity

    def hottest(self) -> tuple[float, str | None]:
        """°C of the load that will be hottest in a second, and its channel."""
        if not self.now:
            return AMBIENT, None
        ahead = {c: t + max(self._rate(t, self.power[c]), 0.0) * AHEAD for c, t in self.now.items()}
        worst = max(ahead, key=lambda c: ahead[c])
        return ahead[worst], worst
