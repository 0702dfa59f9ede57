"""The stand-in horn driver that grows hot: coil and magnet take up heat, the coil's resistance follows, and with it
what comes out."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from ...contracts.recording import Floats
from ...contracts.settings import Model, Seconds, quantity
from ...core.audio.endurance import ALUMINIUM, COPPER
from ...rig.device import InputBlock
from ...rig.model import Rig
from ...rig.standins.listening import ListeningBench

Hz = Annotated[float, quantity("Hz")]
Ohm = Annotated[float, quantity("ohm")]


class HotDriverScene(Model):
    """A driver under power in front of a microphone."""

    kind: Literal["hot-driver"]
    sensitivity: Annotated[float, quantity("Pa/V")] = 0.9
    """at the microphone, cold"""
    resonance: Hz = 420.0
    quality: float = Field(default=2.5, gt=0.3)
    resistance: Ohm = 6.4
    """cold, at the room's temperature"""
    inductance: Annotated[float, quantity("V*s/A")] = 2e-4
    peak: Ohm = 18.0
    """above the resistance at the resonance"""
    wire: Literal["copper", "aluminium"] = "copper"
    coil_capacity: Annotated[float, quantity("J/K")] = 3.0
    coil_resistance: Annotated[float, quantity("K/W")] = 3.0
    """from the coil to the magnet"""
    magnet_capacity: Annotated[float, quantity("J/K")] = 400.0
    magnet_resistance: Annotated[float, quantity("K/W")] = 0.8
    """from the magnet to the room"""
    opens: Seconds | None = None
    """when a lead breaks"""
    shorts: Seconds | None = None
    """when turns of the coil touch"""
    delay: Seconds = 0.0029
    noise: Annotated[float, quantity("Pa")] = 0.002

    def bench(self, rig: Rig) -> ListeningBench:
        return HotDriverBench(rig, self)


class HotDriverBench(ListeningBench):
    """The amplifier, the leads, the driver and the microphone; heat goes on from block to block."""

    def __init__(self, rig: Rig, scene: HotDriverScene) -> None:
        from scipy.signal import butter

        self.driver = scene
        self.alpha = ALUMINIUM if scene.wire == "aluminium" else COPPER
        self.room = rig.room.temperature
        self.coil = self.magnet = self.room
        rate = rig.front_end.rate
        self.cone = butter(2, scene.resonance * 0.85, "high", fs=rate)
        self.states: dict[str, Floats] = {"flow": np.zeros(3), "cone": np.zeros(2)}
        self.known: tuple[float, tuple[Floats, Floats]] = (0.0, (np.zeros(1), np.ones(1)))
        """The coil's resistance that the current's filter was made for, and the filter"""
        self.waiting = np.zeros(max(int(round(scene.delay * rate)), 1))
        self.noises = np.random.default_rng([rig.standin.seed, 12])
        super().__init__(rig)

    def play(self, source: Floats) -> InputBlock:
        self.source = source
        return super().play(source)

    @property
    def ohms(self) -> float:
        """The coil's resistance as hot as it is."""
        there = 1 + self.alpha * (self.coil - 20)
        return float(self.driver.resistance * there / (1 + self.alpha * (self.room - 20)))

    def _flows(self, volts: Floats, t: float) -> Floats:
        """A."""
        from scipy.signal import lfilter

        s = self.driver
        since = self.faults.elapsed(t)
        if s.opens is not None and 0 < s.opens <= since:
            return np.zeros(volts.size)
        short = s.shorts is not None and 0 < s.shorts <= since
        r, extra = (0.08 * self.ohms, 0.0) if short else (self.ohms, s.peak)
        if abs(r - self.known[0]) > 1e-5 * r:  # a new filter costs more than all else in a block
            self.known = (r, self._admittance(r, extra))
        made, self.states["flow"] = lfilter(*self.known[1], volts, zi=self.states["flow"])
        return np.asarray(made)

    def _admittance(self, r: float, extra: float) -> tuple[Floats, Floats]:
        """Current per voltage as a filter: resistance, inductance and the moving part's peak in series."""
        from scipy.signal import bilinear

        w, q = 2 * np.pi * self.driver.resonance, self.driver.quality
        tank = np.array([1.0, w / q, w * w])
        whole = np.polyadd(np.polymul([self.driver.inductance, r], tank), [extra * w / q, 0.0])
        b, a = bilinear(tank, whole, self.rate)
        return b, a

    def feel(self, t: Floats) -> dict[str, Floats]:
        """By role and kind: voltage [V], current [V at its monitor], microphone [Pa]."""
        from scipy.signal import lfilter

        s, rig = self.driver, self.rig
        volts = np.clip(self.source * rig.amplifier.gain, -rig.amplifier.clip, rig.amplifier.clip)
        flows = self._flows(volts, float(t[0]))
        self._warm(float(np.mean(flows * flows)) * self.ohms, t.size / self.rate)
        # It is the current that moves the cone: what the coil's heat takes from it the sound loses too.
        force = flows * s.resistance
        moves, self.states["cone"] = lfilter(*self.cone, force, zi=self.states["cone"])
        late = np.concatenate([self.waiting, s.sensitivity * moves])
        self.waiting = late[moves.size :]
        heard = late[: moves.size] + s.noise * self.noises.standard_normal(t.size)
        scale = next((c.scale for c in rig.channels if c.kind == "current"), 0.1)
        return {"voltage": volts, "current": flows * scale, "pressure": heard}

    def _warm(self, watts: float, span: float) -> None:
        """Coil and magnet after `span` seconds of so much power, each step far below their time constants."""
        s = self.driver
        across = (self.coil - self.magnet) / s.coil_resistance
        self.coil += (watts - across) / s.coil_capacity * span
        self.magnet += (across - (self.magnet - self.room) / s.magnet_resistance) / s.magnet_capacity * span
