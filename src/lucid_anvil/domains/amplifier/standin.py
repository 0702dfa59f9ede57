"""The stand-in amplifier bench: source, router, amplifier, load bank and supply, one block at a time."""

from __future__ import annotations

import threading
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from scipy.signal import bilinear_zpk, lfilter, zpk2tf

from ...core.signal.sinefit import Floats
from ...rig.device import InputBlock
from ...rig.model import Fault, Rig
from ...rig.standins.faults import Faults
from .standin_scene import AmplifierChannel, AmplifierScene

AMBIENT = 23.0
HARDNESS = 24
"""Power of the knee where a channel clips"""
SHORT = 0.03
"""ohm of a shorted output"""
ALONE = {"differential": 1.0, "terminated": 0.0}


@dataclass
class Position:
    """What is switched to one channel."""

    load: float | None = None
    """ohm, nominal; None: off"""
    temperature: float = AMBIENT
    """°C of its resistor"""
    volts: float = 0.0
    """rms at the terminals in the last block"""
    offset: float = 0.0
    power: float = 0.0
    trace: Floats = field(default_factory=lambda: np.zeros(0))


class AmplifierChain:
    """One channel from its input to its terminals."""

    def __init__(self, part: AmplifierChannel, scene: AmplifierScene, rate: float, seed: list[int]) -> None:
        self.part, self.scene, self.rate = part, scene, rate
        self.rng = np.random.default_rng(seed)
        warped = [2 * rate * np.tan(np.pi * f / rate) for f in (part.low_corner, part.high_corner)]
        zeros, poles, gain = bilinear_zpk([0.0], [-w for w in warped], warped[1], rate)
        self.b, self.a = zpk2tf(zeros, poles, gain)
        w = 2 * np.pi * 1e3
        exact = abs(1j * w * 2 * np.pi * part.high_corner
                    / ((1j * w + 2 * np.pi * part.low_corner) * (1j * w + 2 * np.pi * part.high_corner)))  # fmt: skip
        self.gain = part.gain / exact
        self.state = np.zeros(2)
        self.phases = self.rng.uniform(0, 2 * np.pi, 3)
        self.knob: float = 1.0
        self.series = np.zeros(1)

    def __call__(self, u: Floats, t: Floats, rail: float, load: float | None) -> tuple[Floats, Floats]:
        """Terminal voltage, and the current [A] into a load of that many ohm, hot."""
        p = self.part
        v, self.state = lfilter(self.gain * self.b, self.a, self.knob * u, zi=self.state)
        if np.max(np.abs(v)) > 1e-3:
            w = v / self.scene.rail
            v = v + p.second / 100 * v * w * 2 + p.third / 100 * v * w * w * 4
            v = v * (1 - p.kink / 100 * np.exp(-((v / p.kink_width) ** 2)))
        noise = p.noise * np.sqrt(0.7 * self.knob**2 + 0.3) * np.sqrt(self.rate / 2 / 20e3)
        v = v + noise * self.rng.standard_normal(v.size) + p.offset
        for k, share, phase in zip((1, 2, 3), (0.5, 1.0, 1 / 3), self.phases, strict=True):
            v = v + np.sqrt(2) * p.hum * share * np.sin(2 * np.pi * 50 * k * t + phase)
        if load is not None:
            rail = rail / (1 + self.scene.rail_resistance / load)
            rail = min(rail, self.scene.current_limit * (load + p.impedance))
        share = np.abs(v / rail)
        if np.max(share) > 0.6:
            v = v / (1 + share**HARDNESS) ** (1 / HARDNESS)
        if load is None:
            return v, np.zeros(v.size)
        if p.inductance > 0:
            # R / (R + Z + s L), by the trapezoidal rule
            slow = 2 * self.rate * p.inductance / (load + p.impedance)
            v, self.series = lfilter([1 / (1 + slow)] * 2, [1.0, (1 - slow) / (1 + slow)], v, zi=self.series)
        y = v * load / (load + p.impedance)
        return y, y / load


class AmplifierBench:
    """The bench behind the front end. Its instruments read and set it from other threads, under `lock`."""

    def __init__(self, rig: Rig) -> None:
        scene = rig.standin.scene
        assert isinstance(scene, AmplifierScene)
        self.rig, self.scene = rig, scene
        self.rate, self.block = rig.front_end.rate, rig.front_end.block
        self.lock = threading.RLock()
        self.roles = [c.role for c in rig.channels]
        self.chains = {r: AmplifierChain(p, scene, self.rate, [rig.standin.seed, 11, i])
                       for i, (r, p) in enumerate(scene.channels.items())}  # fmt: skip
        self.positions = {r: Position() for r in self.chains}
        self.route = dict.fromkeys(self.chains, "terminated")
        self.last = {r: np.zeros(self.block) for r in self.chains}
        """Terminal voltage of the last block, for what leaks to the neighbours."""
        self.set_volts = scene.supply.actual
        self.supply = scene.supply.actual
        self.drawn = 0.0
        self.on = True
        self.fan = True
        self.index = 0
        self.faults = Faults(rig)
        self.rng = np.random.default_rng([rig.standin.seed, 12])

    @property
    def now(self) -> float:
        """s of simulated time"""
        return self.index * self.block / self.rate

    def fault(self, kind: str, channel: str | None = None) -> Fault | None:
        """The fault of that kind that is on now, if any."""
        for one in self.faults.between(self.now, self.now):
            if one.kind == kind and channel in (None, one.channel):
                return one
        return None

    def command(self, name: str, value: object) -> None:
        """`route`: by channel differential, common or terminated; `knob`: share of full gain; when faults
        act."""
        if name == "route" and isinstance(value, dict):
            self.route = {r: str(value.get(r, "terminated")) for r in self.chains}
        elif name == "knob":
            for chain in self.chains.values():
                chain.knob = float(str(value))
        else:
            self.faults.command(name, value)

    def resistance(self, role: str) -> float | None:
        """ohm that a channel sees, its resistor as hot as it is; None with the load off."""
        return SHORT if self.fault("short", role) else self.resistor(role)

    def resistor(self, role: str) -> float | None:
        """ohm of what the load bank has switched to a channel; a short at the terminals is not seen from there."""
        held, bank = self.positions[role], self.scene.load
        if held.load is None:
            return None
        return held.load * (1 + bank.error / 100) * (1 + bank.coefficient / 100 * (held.temperature - 20))

    def direct(self) -> Any:
        """Supply, load bank and voltmeter, in this very process."""
        from .standin_instruments import Direct

        return Direct(self)

    def served(self, port: int = 0) -> Any:
        """The same as SCPI servers that any client may talk to."""
        from .standin_instruments import Desk

        return Desk(self, port)

    def play(self, source: Floats) -> InputBlock:
        """One block of inputs."""
        with self.lock:
            return self._play(source)

    def _play(self, source: Floats) -> InputBlock:
        t = self.index * self.block / self.rate + np.arange(self.block) / self.rate
        part = self.scene
        rail = part.rail * (1.0 if part.regulated else self.supply / part.supply.nominal) * self.on
        made: dict[str, Floats] = {}
        power = 0.0
        for role, chain in self.chains.items():
            p = chain.part
            u = source * ALONE.get(self.route[role], 10 ** (-p.common_mode / 20))
            others = sum((self.last[r] for r in self.chains if r != role), np.zeros(self.block))
            u = u + others * 10 ** (-p.separation / 20) / p.gain
            load = self.resistance(role)
            y, current = chain(u, t, max(rail, 1e-3), load)
            made[role] = y
            held = self.positions[role]
            held.volts, held.offset = float(np.std(y)), float(np.mean(y))
            held.power = float(np.mean(y * current))
            held.trace = y
            power += held.power if load != SHORT else float(np.mean(np.abs(current))) * part.rail
            self._heat(held)
        self.last = made
        self._feed(power)
        return self._heard(made, source, t)

    def _heat(self, held: Position) -> None:
        bank = self.scene.load
        resistance = bank.resistance * (1 if self.fan else 3)
        hot = self.fault("overheat")
        into = held.power + (hot.size * bank.rating if hot else 0.0)
        step = self.block / self.rate / bank.capacity
        held.temperature += step * (into - (held.temperature - AMBIENT) / resistance)

    def _feed(self, power: float) -> None:
        part = self.scene.supply
        self.drawn = self.scene.idle_power + power / (self.scene.efficiency / 100)
        sag = self.fault("supply_sag")
        aim = self.set_volts + part.drift * self.now - part.sag * self.drawn
        aim += part.sag * self.scene.idle_power - (sag.size if sag else 0.0)
        self.supply += (aim - self.supply) * (1 - np.exp(-self.block / self.rate / part.lag))

    def _heard(self, made: dict[str, Floats], source: Floats, t: Floats) -> InputBlock:
        count = len(self.roles)
        samples, overload = np.empty((count + 1, self.block)), np.zeros(count, dtype=bool)
        for i, channel in enumerate(self.rig.channels):
            x = made.get(channel.role, np.zeros(self.block))
            step = 2 * channel.range / 2**self.rig.front_end.bits
            overload[i] = bool(np.max(np.abs(x)) >= channel.range)
            samples[i] = np.rint(np.clip(x, -channel.range, channel.range) / step) * step
        samples[-1] = source
        self.index += 1
        room = self.rig.room
        return InputBlock(self.index - 1, samples, overload, np.full(count, np.nan), room.temperature, room.humidity,
                          self.supply, 0)  # fmt: skip
