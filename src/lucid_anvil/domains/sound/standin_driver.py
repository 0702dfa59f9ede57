"""The stand-in driver: an amplifier, a coil, a cone that distorts, rubs or rattles, and a microphone a metre off."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from ...contracts.settings import Flag, Model, Seconds, quantity
from ...core.signal.sinefit import Floats
from ...rig.device import InputBlock
from ...rig.model import Rig
from ...rig.standins.listening import ListeningBench

Hz = Annotated[float, quantity("Hz")]


class DriverScene(Model):
    """A loudspeaker driver in front of a microphone, with what may be wrong with it."""

    kind: Literal["driver"]
    sensitivity: Annotated[float, quantity("Pa/V")] = 0.5
    """at the microphone"""
    resonance: Hz = 95.0
    quality: float = Field(default=3.0, gt=0.3)
    resistance: Annotated[float, quantity("ohm")] = 6.2
    inductance: Annotated[float, quantity("V*s/A")] = 4e-4
    peak: Annotated[float, quantity("ohm")] = 30.0
    """above the resistance at the resonance"""
    square: float = 0.005
    """even distortion, per volt"""
    cube: float = 0.001
    """odd distortion, per volt squared"""
    delay: Seconds = 0.0029
    reversed: Flag = False
    """wires exchanged"""
    rub: float = 0.0
    """a coil that touches, as a share of the sound"""
    loose: int = 0
    """particles that strike in a second"""
    strike: Annotated[float, quantity("Pa")] = 0.06
    """of each, at the microphone"""
    leak: float = Field(default=0.0, ge=0, le=1)
    """of the air behind the cone that escapes: its resonance is damped, and the lowest tones go"""
    noise: Annotated[float, quantity("Pa")] = 0.0005

    def bench(self, rig: Rig) -> ListeningBench:
        """The bench of it."""
        return DriverBench(rig)


class DriverBench(ListeningBench):
    """What the source plays goes through the rig's amplifier to the terminals. Everything a block at a time."""

    def __init__(self, rig: Rig) -> None:
        from scipy.signal import bilinear, butter

        scene = rig.standin.scene
        assert isinstance(scene, DriverScene)
        self.driver = scene
        rate = rig.front_end.rate
        w, q = 2 * np.pi * scene.resonance, scene.quality * (1 - 0.5 * scene.leak)
        peak = scene.peak * (1 - 0.6 * scene.leak)
        tank = np.array([1.0, w / q, w * w])
        whole = np.polyadd(np.polymul([scene.inductance, scene.resistance], tank), [peak * w / q, 0.0])
        self.coil = bilinear(tank, whole, rate)
        self.cone = butter(2, scene.resonance * (0.85 + 0.5 * scene.leak), "high", fs=rate)
        self.far = butter(2, min(1500.0, 0.1 * rate), "low", fs=rate)
        self.states: dict[str, Floats] = {"coil": np.zeros(3), "cone": np.zeros(2), "far": np.zeros(2)}
        self.waiting = np.zeros(max(int(round(scene.delay * rate)), 1))
        self.noises = np.random.default_rng([rig.standin.seed, 11])
        self.next_strike = 0.0
        super().__init__(rig)

    def play(self, source: Floats) -> InputBlock:
        self.source = source
        return super().play(source)

    def feel(self, t: Floats) -> dict[str, Floats]:
        """By role and kind: stimulus [V], current [V at its monitor], microphone [Pa]."""
        from scipy.signal import lfilter

        s, rig = self.driver, self.rig
        volts = np.clip(self.source * rig.amplifier.gain, -rig.amplifier.clip, rig.amplifier.clip)
        flows, self.states["coil"] = lfilter(*self.coil, volts, zi=self.states["coil"])
        moves, self.states["cone"] = lfilter(*self.cone, volts, zi=self.states["cone"])
        # It is the excursion that distorts: less the higher the tone, so that nothing folds back from half the rate.
        slow, self.states["far"] = lfilter(*self.far, moves, zi=self.states["far"])
        sound = moves + s.square * slow**2 + s.cube * slow**3
        if s.rub:
            # The coil touches at one side of its travel: short pulses once a period, many orders of it.
            top = 0.75 * max(float(np.max(np.abs(moves))), 1e-12)
            sound = sound + s.rub * np.where(moves > top, np.sign(np.sin(2 * np.pi * 4000 * t)), 0.0) * top
        sound = s.sensitivity * sound * (-1.0 if s.reversed else 1.0)
        if s.loose and np.max(np.abs(volts)) > 0.1:
            sound = sound + self._strikes(t)
        late = np.concatenate([self.waiting, sound])
        self.waiting = late[sound.size :]
        heard = late[: sound.size] + s.noise * self.noises.standard_normal(t.size)
        scale = next((c.scale for c in rig.channels if c.kind == "current"), 0.1)
        return {"stimulus": volts, "voltage": volts, "current": flows * scale, "pressure": heard}

    def _strikes(self, t: Floats) -> Floats:
        made = np.zeros(t.size)
        rate = 1 / (t[1] - t[0])
        while self.next_strike < t[-1]:
            at = int((self.next_strike - t[0]) * rate)
            if 0 <= at < t.size:
                k = np.arange(min(60, t.size - at))
                made[at : at + k.size] += self.driver.strike * np.exp(-k / 8) * np.cos(2 * np.pi * 9000 * k / rate)
            gap = float(self.noises.exponential(1 / self.driver.loose)) + 0.02
            self.next_strike = max(self.next_strike, t[0]) + gap
        return made
