"""The stand-in bench that only listens: nothing is driven, sensors hear a scene. One block at a time."""

from __future__ import annotations

from typing import Protocol

import numpy as np

from ...core.signal.sinefit import Floats
from ..device import InputBlock
from ..model import ChannelPart, Fault, Rig
from ..scenes import ActuatorScene, CalibratorScene, DriverScene, FrameScene, PlateScene, PressScene, PumpScene
from .faults import Faults
from .filters import Modal, low_corner, resonance

OPEN_BIAS, SHORT_BIAS = 23.8, 0.1
P0 = 20e-6
DRIVEN = (FrameScene, DriverScene, ActuatorScene, PressScene)
"""Scenes that feel what the source plays: benches of their own"""


class Playing(Protocol):
    """A scene going on: what each kind of sensor would feel."""

    def __call__(self, t: Floats) -> dict[str, Floats]:
        """By channel kind, in its unit (volts for a tach), over the times [s] of one block."""


class Plate:
    """Hits of a hand that is not always sure, and the plate that answers."""

    def __init__(self, scene: PlateScene, rate: float, seed: int) -> None:
        self.scene, self.rate = scene, rate
        self.rng = np.random.default_rng([seed, 7])
        self.next = 1.5
        self.pulses: list[tuple[float, float, float]] = []
        """Force pulses on their way: start [s], peak [N], and the share of it that reaches the plate."""
        n = len(scene.modes)
        w = 2 * np.pi * np.array([m.frequency for m in scene.modes])
        zeta = np.array([m.damping / 100 for m in scene.modes])
        mass = np.array([m.mass for m in scene.modes])
        a = np.block([[np.zeros((n, n)), np.eye(n)], [-np.diag(w**2), -np.diag(2 * zeta * w)]])
        b = np.concatenate([np.zeros(n), 1 / mass])
        c = np.concatenate([-(w**2), -2 * zeta * w])[None]
        self.motion = Modal(a, b, c, np.array([np.sum(1 / mass)]), rate)

    def _hit(self, at: float) -> None:
        scene, rng = self.scene, self.rng
        peak = scene.peak * np.exp(rng.normal(0, 0.12))
        kind = "good"
        if rng.random() < scene.clumsy / 100:
            kind = str(rng.choice(["double", "weak", "hard", "glancing"]))
        if kind == "weak":
            peak *= 0.05
        elif kind == "hard":
            peak *= 12
        self.pulses.append((at, peak, 0.0 if kind == "glancing" else 1.0))
        if kind == "double":
            self.pulses.append((at + rng.uniform(0.012, 0.05), peak * rng.uniform(0.25, 0.6), 1.0))

    def __call__(self, t: Floats) -> dict[str, Floats]:
        while self.next <= t[-1]:
            self._hit(self.next)
            self.next += self.scene.every * float(self.rng.uniform(0.9, 1.1))
        force, felt = np.zeros(t.size), np.zeros(t.size)
        for start, peak, share in self.pulses:
            u = (t - start) / self.scene.tip
            pulse = np.where((u > 0) & (u < 1), peak * np.sin(np.pi * np.clip(u, 0, 1)) ** 2, 0.0)
            force += pulse
            felt += share * pulse
        self.pulses = [p for p in self.pulses if p[0] + self.scene.tip > t[-1]]
        return {"force": force, "acceleration": self.motion(felt)[0]}


class Pump:
    """A pump that runs down and up again, its orders, its casing, the mains, and a dirty tach."""

    def __init__(self, scene: PumpScene, rate: float, seed: int) -> None:
        self.scene, self.rate = scene, rate
        self.rng = np.random.default_rng([seed, 8])
        self.angle = 0.0
        """revolutions so far"""
        self.phases = self.rng.uniform(0, 2 * np.pi, len(scene.orders))
        self.casing = resonance(scene.casing, scene.casing_quality, rate)
        self.edges: list[float] = []
        """s, coming rising edges of the tach"""
        self.counted = 0

    def speed(self, t: Floats) -> Floats:
        """rpm at times [s]."""
        s = self.scene
        at = [0.0, s.idle, s.idle + s.down, s.idle + s.down + s.rest, s.idle + s.down + s.rest + s.up]
        return np.interp(np.mod(t, at[-1]), at, [s.high, s.high, s.low, s.low, s.high])

    def _pulse_train(self, t: Floats, angle: Floats) -> Floats:
        """Pulses that last a tenth of a turn's share, with jitter, gaps and spurious ones."""
        s = self.scene
        last = int(np.floor(angle[-1] * s.pulses))
        for k in range(self.counted + 1, last + 1):
            at = float(np.interp(k / s.pulses, angle, t))
            if self.rng.random() >= s.lost / 100:
                self.edges.append(at + float(self.rng.normal(0, s.jitter)))
            if self.rng.random() < s.spurious / 100:
                self.edges.append(at + 0.3 / s.pulses * 60 / float(self.speed(np.array([at]))[0]))
        self.counted = max(self.counted, last)
        width = 0.08 / s.pulses * 60 / s.high
        x = np.zeros(t.size)
        slope = s.pulse_height * self.rate / 2
        for edge in self.edges:
            # The edge takes two samples, so that its time can be read between them.
            x += np.clip((t - edge) * slope, 0, s.pulse_height) - np.clip((t - edge - width) * slope, 0, s.pulse_height)
        self.edges = [e for e in self.edges if e + width + 4 / self.rate > t[-1]]
        return x + s.pulse_noise * self.rng.standard_normal(t.size)

    def __call__(self, t: Floats) -> dict[str, Floats]:
        s = self.scene
        rpm = self.speed(t)
        angle = self.angle + np.cumsum(rpm) / 60 / self.rate
        self.angle = float(angle[-1])
        x = np.zeros(t.size)
        for part, phase in zip(s.orders, self.phases, strict=True):
            size = np.sqrt(2) * part.pressure * (rpm / s.high) ** (part.slope / 6.0206)
            x += size * np.sin(2 * np.pi * part.order * angle + phase)
        x = x + s.noise * self.rng.standard_normal(t.size)
        x = x + 0.15 * self.casing(x)
        x = x + np.sqrt(2) * s.hum * (np.sin(2 * np.pi * 50 * t) + 0.5 * np.sin(2 * np.pi * 150 * t + 1))
        return {"pressure": x, "tach": self._pulse_train(t, angle)}


class Calibrator:
    """A tone in a coupler; badly seated it leaks, wanders and rattles."""

    def __init__(self, scene: CalibratorScene, rate: float, seed: int) -> None:
        self.scene, self.rate = scene, rate
        self.rng = np.random.default_rng([seed, 9])

    def __call__(self, t: Floats) -> dict[str, Floats]:
        s = self.scene
        well = np.full(t.shape, s.seated) if s.reseat is None else t >= s.reseat
        since = t if s.reseat is None else np.where(well, t - s.reseat, t)
        size = np.sqrt(2) * P0 * 10 ** (s.level / 20) * (1 - 0.3 * np.exp(-np.maximum(since, 0) / (s.settle / 6)))
        leak = 0.8 + 0.08 * np.sin(2 * np.pi * 0.7 * t) + 0.03 * np.sin(2 * np.pi * 2.3 * t)
        size = np.where(well, size, size * leak)
        worse = np.where(well, 1.0, 6.0) * s.distortion / 100
        w = 2 * np.pi * s.frequency * t
        x = size * (np.sin(w) + worse * (0.8 * np.sin(2 * w + 0.4) + 0.6 * np.sin(3 * w + 1.1)))
        return {"pressure": x + s.noise * self.rng.standard_normal(t.size)}


def playing(rig: Rig) -> Playing:
    """The scene of a rig, begun."""
    scene, rate, seed = rig.standin.scene, rig.front_end.rate, rig.standin.seed
    if isinstance(scene, PlateScene):
        return Plate(scene, rate, seed)
    if isinstance(scene, PumpScene):
        return Pump(scene, rate, seed)
    assert isinstance(scene, CalibratorScene)
    return Calibrator(scene, rate, seed)


class Ear:
    """One sensor with its input."""

    def __init__(self, rig: Rig, part: ChannelPart) -> None:
        self.part = part
        self.held = rig.standin.sensors[part.sensor] if part.sensor else None
        self.scale = self.held.per_unit(part.kind) if self.held else 1.0
        steady = self.held is None or self.held.low_corner <= 0  # strain gauges go down to rest
        self.corner = None if steady or self.held is None else low_corner(self.held.low_corner, rig.front_end.rate)
        self.rng = np.random.default_rng([rig.standin.seed, part.input])

    def __call__(self, felt: Floats, t: Floats, faults: list[Fault]) -> tuple[Floats, float]:
        """Volts at the input, and the bias voltage."""
        x = felt if self.corner is None else self.corner(felt)
        x = self.scale * x
        if self.held is not None:
            x = x + self.scale * self.held.noise * self.rng.standard_normal(x.size)
        bias = self.held.bias if self.held else float("nan")
        for fault in faults:
            if fault.channel != self.part.role:
                continue
            if fault.kind in ("open", "short", "no_output"):
                x = np.where(t >= fault.at, 1e-5 * self.rng.standard_normal(x.size), x)
                bias = {"open": OPEN_BIAS, "short": SHORT_BIAS}.get(fault.kind, bias)
            elif fault.kind == "gain_jump":
                x = np.where(t >= fault.at, x * (1 + fault.size), x)
        return x, bias if self.part.supply else float("nan")


class ListeningBench:
    """The bench behind the front end; what the source plays goes nowhere."""

    def __init__(self, rig: Rig) -> None:
        self.rig = rig
        self.rate, self.block = rig.front_end.rate, rig.front_end.block
        own = isinstance(rig.standin.scene, DRIVEN) or hasattr(rig.standin.scene, "bench")
        self.scene = None if own else playing(rig)
        self.ears = [Ear(rig, c) for c in rig.channels]
        self.ranges = [c.range for c in rig.channels]
        self.faults = Faults(rig)
        self.index = 0

    def command(self, name: str, value: object) -> None:
        """`ranges`: volts by role; when faults act."""
        if name == "ranges" and isinstance(value, dict):
            self.ranges = [float(value.get(c.role, r)) for c, r in zip(self.rig.channels, self.ranges, strict=True)]
        else:
            self.faults.command(name, value)

    def feel(self, t: Floats) -> dict[str, Floats]:
        """What each kind of sensor, or one in a role, feels over the times [s] of a block."""
        assert self.scene is not None
        return self.scene(t)

    def play(self, source: Floats) -> InputBlock:
        """One block of inputs."""
        t = (self.index * self.block + np.arange(self.block)) / self.rate
        faults = self.faults.between(t[0], t[-1])
        felt = self.feel(t)
        count = len(self.rig.channels)
        samples, bias = np.empty((count + 1, self.block)), np.full(count, np.nan)
        overload = np.zeros(count, dtype=bool)
        for i, (part, ear) in enumerate(zip(self.rig.channels, self.ears, strict=True)):
            own = felt.get(part.role, felt.get(part.kind))
            x, bias[i] = ear(np.zeros(self.block) if own is None else own, t, faults)
            limit = self.ranges[i]
            step = 2 * limit / 2**self.rig.front_end.bits
            samples[i] = np.rint(np.clip(x, -limit, limit) / step) * step
            overload[i] = bool(np.max(np.abs(x)) >= limit)
        samples[-1] = source
        self.index += 1
        room = self.rig.room
        return InputBlock(self.index - 1, samples, overload, bias, room.temperature, room.humidity, room.supply, 0)
