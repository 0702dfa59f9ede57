"""The stand-in bench: source, amplifier, shaker, sensors and inputs, one block at a time."""

from __future__ import annotations

import dataclasses
import math
from typing import Any

import numpy as np

from ...core.shaker import Mode, Shaker
from ...core.signal.sinefit import Floats
from ..device import InputBlock
from ..model import ChannelPart, Fault, Rig
from .errors import errors_of
from .faults import Faults
from .filters import BlockFir, Delay, Modal, Recursive, fir_for, low_corner, resonance

OPEN_BIAS, SHORT_BIAS = 23.8, 0.1
"""Volts that a sensor supply shows at an open and at a shorted input."""


class StandInSensor:
    """One sensor on the table, with its conditioner and input."""

    def __init__(self, rig: Rig, part: ChannelPart, seed: int) -> None:
        assert part.sensor is not None
        held = rig.standin.sensors[part.sensor]
        model = held.model()
        rate = rig.front_end.rate
        drawn = errors_of(rig) if part.role == "unit" else None
        angles = errors_of(rig)
        angle = angles.angles.get(part.role, 0.0) if angles else math.pi / 2
        gain = 1.0
        if held.output == "charge":
            gain = (part.conditioner_gain or 10.0) * 1e9  # mV/pC in V/C
        warm = 1 + held.temperature_coefficient / 100 * (rig.room.temperature - 23.0) if drawn is None else 1.0
        self.part = part
        self.scale = model.sensitivity * gain * warm * (1 + rig.standin.input_gains.get(part.role, 0.0) / 100)
        self.sideways = held.transverse / 100 * math.cos(angle)
        self.noise = held.noise * model.sensitivity * gain
        self.bias = held.bias
        if model.resonance < 12000:
            self.recursive: Recursive | None = resonance(model.resonance, model.quality, rate)
            self.shape: BlockFir | Delay = Delay()
        else:
            self.recursive = None

            def wanted(f: Floats) -> np.ndarray:
                return model.upper(f) * (drawn.factor(f) if drawn else 1.0)

            self.shape = BlockFir(fir_for(wanted, rate), rig.front_end.block)
        self.high_pass = low_corner(model.low_corner, rate)
        self.loose = resonance(2600.0, 6.0, rate)
        self.rattle, self.chatter = low_corner(250.0, rate) or Delay(), resonance(700.0, 1.0, rate)
        self.chatter_size = math.sqrt(rate / (2 * math.pi * 700.0) * 2.0)
        """makes the chatter's rms about 1"""
        self.rng = np.random.default_rng([seed, part.input])

    def __call__(self, axial: Floats, across: Floats, faults: list[Fault], t: Floats) -> tuple[Floats, float]:
        """Volts at the input, and the bias voltage."""
        moved = axial + self.sideways * across if self.part.axis == "axial" else across
        kinds = {f.kind: f for f in faults if f.channel == self.part.role}
        if "loose" in kinds:
            moved = self.loose(moved)
            size = kinds["loose"].size
            moved = moved + 0.25 * min(size, 1.0) * np.abs(moved)
            if size > 1:
                # Its contact comes and goes: what it shows is modulated by noise of a few hundred hertz.
                chatter = self.rattle(self.chatter(self.rng.standard_normal(moved.size))) * self.chatter_size
                moved = moved * (1 + 0.25 * size * chatter)
        x = self.shape(moved)
        if self.recursive is not None:
            x = self.recursive(x)
        if self.high_pass is not None:
            x = self.high_pass(x)
        x = self.scale * x + self.noise * self.rng.standard_normal(x.size)
        bias = self.bias
        for kind, fault in kinds.items():
            if kind == "cable":
                # Contact comes and goes in stretches of a few milliseconds, for 0.4 of the time at a size of 1.
                gone = min(0.4 * fault.size, 0.95)
                stretch = np.repeat(self.rng.random(x.size // 256 + 1) < gone, 256)[: x.size]
                x = np.where(stretch & (t >= fault.at), 0.0, x)
            elif kind in ("open", "short", "no_output"):
                x = np.where(t >= fault.at, 1e-5 * self.rng.standard_normal(x.size), x)
                bias = {"open": OPEN_BIAS, "short": SHORT_BIAS}.get(kind, bias)
            elif kind == "gain_jump":
                x = np.where(t >= fault.at, x * (1 + fault.size), x)
            elif kind == "overload":
                x = np.where(t >= fault.at, x * 1e3 * fault.size, x)
            elif kind == "hum":
                x = x + 0.05 * fault.size * np.sin(2 * np.pi * 50 * t) * (t >= fault.at)
        return x, bias if self.part.supply else float("nan")


class StandInArticle:
    """The article's modes as they stand now: a mode softens with its own motion and drifts with time."""

    def __init__(self, rig: Rig) -> None:
        self.rig, self.parts = rig, rig.standin.article.modes
        self.frequencies = [float(m.frequency) for m in self.parts]
        self.level = np.zeros(len(self.parts))
        """m/s² rms of each mode's mass, over about half a second"""
        self.share = min(rig.front_end.block / rig.front_end.rate / 0.5, 1.0)
        held = rig.standin.article.rattle
        self.ring = resonance(held.frequency, 12.0, rig.front_end.rate) if held else None

    def plant(self) -> Shaker:
        """The shaker with the modes at their present frequencies."""
        modes = tuple(Mode(m.mass, f, m.quality) for m, f in zip(self.parts, self.frequencies, strict=True))
        return dataclasses.replace(self.rig.plant(), modes=modes)

    def moved(self, t: float) -> bool:
        """Whether a frequency changed; learns the present ones."""
        now = [
            float(m.frequency * (1 + m.drift / 100 * t / 60) * (1 - m.softening / 100 * level / 100))
            for m, level in zip(self.parts, self.level, strict=True)
        ]
        if all(abs(a / b - 1) < 1e-5 for a, b in zip(now, self.frequencies, strict=True)):
            return False
        self.frequencies = now
        return True

    def learn(self, moved: Floats) -> None:
        """Take in a block of the modes' accelerations (modes, n)."""
        if len(self.parts):
            now = np.sqrt(np.mean(moved**2, axis=1))
            self.level += self.share * (now - self.level)

    def rattled(self, acceleration: Floats) -> Floats:
        """The table's acceleration with what a loose contact adds: a ring at each closing."""
        held = self.rig.standin.article.rattle
        if held is None or self.ring is None:
            return acceleration
        over = acceleration > held.above
        closing = np.diff(over.astype(float), prepend=0.0) < 0
        hits = np.where(closing, held.size * np.maximum(np.max(np.abs(acceleration)) - held.above, 0.0), 0.0)
        ringing = self.ring(hits * self.rig.front_end.rate / (2 * np.pi * held.frequency))
        return acceleration + ringing


class StandInBench:
    """The whole bench behind the front end; `play` takes a block of source volts and gives a block of inputs."""

    def __init__(self, rig: Rig) -> None:
        self.rig = rig
        self.rate, self.block = rig.front_end.rate, rig.front_end.block
        self.article = StandInArticle(rig)
        self.motion = Modal(*self.article.plant().state_space(), self.rate)
        self.sideways = resonance(rig.shaker.transverse_resonance, rig.shaker.transverse_quality, self.rate)
        seed = rig.standin.seed
        self.sensors = {c.role: StandInSensor(rig, c, seed) for c in rig.channels if c.kind == "acceleration"}
        self.rng = np.random.default_rng([seed, 0])
        self.delays = {c.role: Delay() for c in rig.channels}
        self.source_delay = Delay()
        self.index = 0
        self.faults = Faults(rig)
        self.tripped = False
        self.insert = False

    def command(self, name: str, value: object) -> None:
        """Settings that a method may ask for: `insert` routes the source to the sensor inputs; when faults act."""
        if name == "insert":
            self.insert = bool(value)
        else:
            self.faults.command(name, value)

    def _amplified(self, source: Floats) -> Floats:
        part, full = self.rig.amplifier, self.rig.front_end.source_range
        u = np.clip(source, -full, full)
        u = u + 2 * part.second_harmonic / 100 * u**2 / full + 4 * part.third_harmonic / 100 * u**3 / full**2
        limit = part.clip / part.gain
        return np.clip(u, -limit, limit)

    def direct(self) -> Any:
        """A shaker has no instruments beside it."""
        return None

    def served(self, port: int = 0) -> Any:
        return None

    def play(self, source: Floats) -> InputBlock:
        """One block: source volts in, inputs out. Faults act from their own sample on."""
        if not self.rig.standin.physics:
            return self._echo(source)
        t = (self.index * self.block + np.arange(self.block)) / self.rate
        faults = self.faults.between(t[0], t[-1])
        u = self._amplified(source) if not self.insert else np.zeros(self.block)
        for fault in faults:
            if fault.kind in ("amplifier_trip", "field", "emergency_stop"):
                u = np.where(t >= fault.at, 0.0, u)
        if self.rig.amplifier.hum:
            u = u + self.rig.amplifier.hum / self.rig.amplifier.gain * np.sin(2 * np.pi * 50 * t)
        if self.article.moved(self.faults.elapsed(t[0])):
            self.motion.become(*self.article.plant().state_space())
        moved = self.motion(u)
        acceleration, current = moved[0], moved[1]
        self.article.learn(moved[4:])
        acceleration = self.article.rattled(acceleration)
        across = self.rig.shaker.transverse / 100 * self.sideways(acceleration)
        samples = np.empty((len(self.rig.channels) + 1, self.block))
        bias = np.full(len(self.rig.channels), np.nan)
        overload = np.zeros(len(self.rig.channels), dtype=bool)
        for i, part in enumerate(self.rig.channels):
            if part.kind == "acceleration":
                here = acceleration if part.on == "table" else moved[3 + int(part.on.removeprefix("mode"))]
                x, bias[i] = self.sensors[part.role](here, across, faults, t)
                if self.insert:
                    gain = 1 + self.rig.standin.input_gains.get(part.role, 0.0) / 100
                    x = x + 0.5 * gain * self.delays[part.role](source)
            else:
                x = self.delays[part.role](current * part.scale) + 1e-5 * self.rng.standard_normal(self.block)
            samples[i], overload[i] = self._convert(x, part.range)
        samples[-1] = self.source_delay(source)
        self.index += 1
        supply = self.rig.room.supply
        for fault in faults:
            if fault.kind == "supply_sag":
                supply -= 25.0 * fault.size
        room = self.rig.room
        interlock = 0
        for bit, kind in enumerate(("cooling", "field", "emergency_stop")):
            interlock |= any(f.kind == kind for f in faults) << bit
        return InputBlock(self.index - 1, samples, overload, bias, room.temperature, room.humidity, supply, interlock)

    def _echo(self, source: Floats) -> InputBlock:
        """Every input is the source times its factor: no physics, next to no work."""
        samples = np.empty((len(self.rig.channels) + 1, self.block))
        samples[-1] = self.source_delay(source)
        samples[:-1] = (
            samples[-1] * np.array([0.5 if c.kind == "acceleration" else 0.1 for c in self.rig.channels])[:, None]
        )
        bias = np.array([11.0 if c.supply else np.nan for c in self.rig.channels])
        self.index += 1
        room = self.rig.room
        overload = np.zeros(len(self.rig.channels), dtype=bool)
        return InputBlock(self.index - 1, samples, overload, bias, room.temperature, room.humidity, room.supply)

    def _convert(self, x: Floats, limit: float) -> tuple[Floats, bool]:
        """Range and converter: clipped, quantised, and told when clipped."""
        step = 2 * limit / 2**self.rig.front_end.bits
        clipped = np.clip(x, -limit, limit)
        return np.rint(clipped / step) * step, bool(np.max(np.abs(x)) >= limit)
