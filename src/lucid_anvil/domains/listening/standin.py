"""What happens before the sensors of a stand-in bench that only listens: a person hits a plate, a pump runs down, a
calibrator sounds."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import Field, model_validator

from ...contracts.settings import Flag, Model, Seconds, quantity
from ...core.signal.sinefit import Floats
from ...rig.standins.filters import Modal, resonance

Hz = Annotated[float, quantity("Hz")]
Percent = Annotated[float, quantity("%")]
P0 = 20e-6


class PlateMode(Model):
    """One mode of the plate, between the point that is hit and the one that is listened at."""

    frequency: Hz
    damping: Percent = 0.8
    mass: Annotated[float, quantity("kg")] = 2.0
    """modal mass for these two points; negative where they move against one another"""


class PlateScene(Model):
    """A hanging plate, and a hand with a force hammer."""

    kind: Literal["plate"]
    modes: list[PlateMode] = Field(min_length=1, max_length=8)
    peak: Annotated[float, quantity("N")] = 60.0
    tip: Seconds = 3e-4
    """contact time"""
    every: Seconds = 4.0
    clumsy: Percent = 30.0
    """of the hits are double, weak, far too hard, or glance off"""

    def playing(self, rate: float, seed: int) -> Plate:
        """It, begun."""
        return Plate(self, rate, seed)


class OrderPart(Model):
    """One order of a rotating machine's sound."""

    order: Annotated[float, Field(gt=0)]
    pressure: Annotated[float, quantity("Pa")]
    """rms at the pump's high speed"""
    slope: float = 6.0
    """dB per doubling of the speed"""


class PumpScene(Model):
    """A bilge pump: idle at its high speed, run down, rest, run up; and again."""

    kind: Literal["pump"]
    high: Annotated[float, quantity("rpm")] = 3000.0
    low: Annotated[float, quantity("rpm")] = 600.0
    idle: Seconds = 4.0
    down: Seconds = 20.0
    rest: Seconds = 3.0
    up: Seconds = 3.0
    orders: list[OrderPart] = Field(default_factory=lambda: [OrderPart(order=1, pressure=0.2)])
    casing: Hz = 420.0
    casing_quality: float = Field(default=12.0, gt=0.5)
    hum: Annotated[float, quantity("Pa")] = 0.01
    noise: Annotated[float, quantity("Pa")] = 0.02
    pulses: int = Field(default=1, ge=1, le=360)
    jitter: Seconds = 2e-5
    lost: Percent = 1.0
    """of the tach's pulses are missing"""
    spurious: Percent = 1.0
    """and as many more are none"""
    pulse_height: Annotated[float, quantity("V")] = 4.0
    pulse_noise: Annotated[float, quantity("V")] = 0.15

    @model_validator(mode="after")
    def _falls(self) -> PumpScene:
        if not 0 < self.low < self.high:
            raise ValueError("the pump's low speed must lie above zero and below its high one.")
        return self

    def playing(self, rate: float, seed: int) -> Pump:
        """It, begun."""
        return Pump(self, rate, seed)


class CalibratorScene(Model):
    """A sound calibrator on the microphone."""

    kind: Literal["calibrator"]
    level: Annotated[float, quantity("dB")] = 94.0
    frequency: Hz = 1000.0
    distortion: Percent = 0.8
    settle: Seconds = 1.5
    seated: Flag = True
    reseat: Seconds | None = None
    """when a badly seated one is put right"""
    noise: Annotated[float, quantity("Pa")] = 0.01

    def playing(self, rate: float, seed: int) -> Calibrator:
        """It, begun."""
        return Calibrator(self, rate, seed)


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
