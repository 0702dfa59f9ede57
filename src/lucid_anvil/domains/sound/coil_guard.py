"""What protects a driver that is driven for long: its coil's temperature and resistance, and its excursion.

They run in the guards' process, block by block, from the voltage and the current at the terminals.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Mapping
from typing import Any

import numpy as np

from ...contracts.guard import Block, GuardKind, Sight, Watched
from ...contracts.recording import Floats
from ...core.audio.endurance import coil_temperature, impedance_at
from ...core.errors import BadInput

OVER = 0.25
"""s over which a coil that opens or shorts is told"""
SEEN = 2e-4
"""Of the whole voltage: a probe below it is none"""
BELOW = 20.0
"""K below its cold temperature that a coil can't be: a channel lies"""
QUIET = 0.05
"""Of the highest voltage so far: below it nothing is told of the resistance"""


def _facts(bench: Watched) -> Mapping[str, Any]:
    held: Mapping[str, Any] = bench.control.get("coil") or {}
    if not held:
        raise BadInput("guards: a coil's is for power-endurance: leave it out of this plan.")
    return held


class CoilHeat:
    """Temperature by the probe tone, of windows that overlap by half; the first that holds the probe is the cold one
    where nothing was stated."""

    def __init__(self, bench: Watched, limit: float) -> None:
        held = _facts(bench)
        self.limit, self.rate = limit, bench.rate
        self.frequency: float = held["probe"]
        self.cold: float | None = held["cold_resistance"]
        self.cold_temperature, self.alpha = held["cold_temperature"], held["alpha"]
        self.blocks = max(int(np.ceil(held["window"] * bench.rate / bench.block)), 1)
        self.held: deque[tuple[Floats, Floats]] = deque(maxlen=self.blocks)
        self.since = 0
        self.temperature = self.by_now = self.cold_temperature
        self.measured = False

    def __call__(self, now: Block) -> Sight:
        channels = now.channels
        self.held.append((channels["voltage"], channels["current"]))
        self.since += 1
        if len(self.held) == self.blocks and self.since >= max(self.blocks // 2, 1):
            self.since = 0
            self._measure()
        under = self.cold_temperature - self.temperature
        if under > BELOW:  # no coil is colder than cold: its heat would be hidden by as much
            said = f"the coil seems {under:.0f} K colder than cold: the voltage or the current is not what it was"
            return Sight(2.0, self.temperature, "voltage", said)
        top = max(self.limit - self.cold_temperature, 1.0)
        return Sight((self.by_now - self.cold_temperature) / top, self.by_now, "current")

    def _measure(self) -> None:
        v, i = (np.concatenate([pair[k] for pair in self.held]) for k in (0, 1))
        t = np.arange(v.size) / self.rate
        probe = abs(np.mean(v * np.hanning(v.size) * np.exp(-2j * np.pi * self.frequency * t)))
        if not probe > SEEN * float(np.sqrt(np.mean(v * v))) or not np.any(i):
            return
        found = impedance_at(v, i, self.rate, self.frequency).real
        if not np.isfinite(found) or found <= 0:
            return
        if self.cold is None:
            self.cold = found
        before, self.temperature = self.temperature, float(
            coil_temperature(np.array([found]), self.cold, self.cold_temperature, self.alpha)[0]
        )  # fmt: skip
        # It was so hot in the middle of the window, and has warmed as fast since as from the window before it.
        self.by_now = self.temperature + (max(self.temperature - before, 0.0) if self.measured else 0.0)
        self.measured = True


class CoilWhole:
    """Open or shorted: voltage over current, as both are, against the first that was seen. `limit` is how many times as
    much, or as little, is too much."""

    def __init__(self, bench: Watched, limit: float) -> None:
        held = _facts(bench)
        self.limit = limit
        self.usual: float | None = held["cold_resistance"]
        self.squares: deque[tuple[float, float]] = deque(maxlen=max(int(np.ceil(OVER * bench.rate / bench.block)), 1))
        self.highest = self.most = 0.0
        """V and A so far"""

    def __call__(self, now: Block) -> Sight:
        channels = now.channels
        self.squares.append(tuple(float(np.mean(channels[r] ** 2)) for r in ("voltage", "current")))  # type: ignore[arg-type]
        if len(self.squares) < (self.squares.maxlen or 1):
            return Sight(0.0, 1.0, "current")
        v, i = np.sqrt(np.mean(np.array(self.squares), axis=0))
        self.highest, self.most = max(self.highest, float(v)), max(self.most, float(i))
        if v < QUIET * self.highest and i > 4 * QUIET * self.most:  # in a pause both are small
            gone = "current flows as before, and no voltage is seen: its lead is off"
            return Sight(2.0, self.limit, "voltage", gone)
        if v < QUIET * self.highest or self.highest < 0.01:
            return Sight(0.0, 1.0, "current")
        found = float(v / max(i, 1e-9))
        if self.usual is None:
            self.usual = found
        share = found / self.usual
        said = None
        if share >= self.limit:
            said = f"no current flows as it did: the coil or a lead is open ({found:.3g} ohm for {self.usual:.3g} ohm)"
        elif share <= 1 / self.limit:
            said = f"too much current flows: the coil is shorted ({found:.2g} ohm for {self.usual:.3g} ohm)"
        off = max(share, 1 / share)
        return Sight(float(np.log(off) / np.log(self.limit)), off, "current", said)


class Excursion:
    """How far the cone goes, by the current and what is known of the driver: x = Bl·i / (m·(s² + s·ω/Q + ω²)) (Thiele,
    Small; IEC 60268-21, 15, is where a laser measures it)."""

    def __init__(self, bench: Watched, limit: float) -> None:
        from scipy.signal import bilinear

        held = _facts(bench).get("driver")
        if not held:
            raise BadInput("guards: excursion needs `play: {driver: {force_factor, moving_mass, resonance, quality}}`.")
        w = 2 * np.pi * held["resonance"]
        self.b, self.a = bilinear(
            [held["force_factor"] / held["moving_mass"]], [1.0, w / held["quality"], w * w], bench.rate
        )
        self.state = np.zeros(max(len(self.a), len(self.b)) - 1)
        self.limit = limit

    def __call__(self, now: Block) -> Sight:
        channels = now.channels
        from scipy.signal import lfilter

        x, self.state = lfilter(self.b, self.a, channels["current"], zi=self.state)
        top = float(np.max(np.abs(x)))
        return Sight(top / self.limit, top, "current")


HEAT = GuardKind("coil_heat", "Coil temperature", "°C", CoilHeat, ("voltage", "current"), 180.0)
WHOLE = GuardKind("coil_whole", "Coil open or shorted", "", CoilWhole, ("voltage", "current"), 4.0)
EXCURSION = GuardKind("excursion", "Excursion", "m", Excursion, ("current",))
