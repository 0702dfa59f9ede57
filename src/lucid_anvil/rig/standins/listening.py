"""The stand-in bench that only listens: nothing is driven, sensors hear a scene. One block at a time."""

from __future__ import annotations

from typing import Any, Protocol

import numpy as np

from ...core.signal.sinefit import Floats
from ..device import InputBlock
from ..model import ChannelPart, Fault, Rig
from .faults import Faults
from .filters import low_corner

OPEN_BIAS, SHORT_BIAS = 23.8, 0.1


class Playing(Protocol):
    """A scene going on: what each kind of sensor would feel."""

    def __call__(self, t: Floats) -> dict[str, Floats]:
        """By channel kind, in its unit (volts for a tach), over the times [s] of one block."""


class Scene(Protocol):
    """A scene that goes on by itself, whatever is driven."""

    def playing(self, rate: float, seed: int) -> Playing:
        """It, begun; `rate` [Hz]."""


class Ear:
    """One sensor with its input."""

    def __init__(self, rig: Rig, part: ChannelPart) -> None:
        self.part = part
        self.held = rig.standin.sensors[part.sensor] if part.sensor else None
        self.scale = self.held.per_unit(part.kind) if self.held else 1.0
        steady = self.held is None or self.held.low_corner <= 0  # strain gauges go down to rest
        self.corner = None if steady or self.held is None else low_corner(self.held.low_corner, rig.front_end.rate)
        self.rng = np.random.default_rng([rig.standin.seed, part.input])
        self.stood: float | None = None
        """V at which it stands where it is frozen"""

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
            elif fault.kind == "frozen":
                first = int(np.searchsorted(t, fault.at))
                self.stood = float(x[max(first - 1, 0)]) if self.stood is None else self.stood
                x = np.where(t >= fault.at, self.stood, x)
        return x, bias if self.part.supply else float("nan")


class ListeningBench:
    """The bench behind the front end; what the source plays goes nowhere."""

    def __init__(self, rig: Rig) -> None:
        self.rig = rig
        self.rate, self.block = rig.front_end.rate, rig.front_end.block
        begin = getattr(rig.standin.scene, "playing", None)  # others have benches of their own that feel the source
        self.scene: Playing | None = None if begin is None else begin(self.rate, rig.standin.seed)
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

    def direct(self) -> Any:
        """Its instruments, in this very process; None where it has none."""
        return None

    def served(self, port: int = 0) -> Any:
        """Its instruments, as servers that any client may talk to, from that port on or any that is free; `ports` says
        which. None where it has none."""
        return None

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
