"""The stand-in headset: two sides on couplers in a field of noise, with what may be wrong with either."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from ...contracts.recording import Floats
from ...contracts.settings import Flag, Model, quantity
from ...rig.device import InputBlock
from ...rig.model import Rig
from ...rig.standins.listening import ListeningBench

PaV = Annotated[float, quantity("Pa/V")]
Hz = Annotated[float, quantity("Hz")]
dB = Annotated[float, quantity("dB")]  # noqa: N816


class SideScene(Model):
    """One side."""

    sensitivity: PaV = 6.0
    lowest: Hz = 40.0
    highest: Hz = 9000.0
    reversed: Flag = False
    """wires exchanged"""
    leak: Hz = 0.0
    """below which its seal lets through what it should keep"""


class HeadsetScene(Model):
    """A headset with noise cancelling."""

    kind: Literal["headset"]
    left: SideScene = Field(default_factory=SideScene)
    right: SideScene = Field(default_factory=SideScene)
    field: PaV = 8.0
    """of the loudspeakers around it"""
    passive: dB = 22.0
    """kept out well above `corner`"""
    corner: Hz = 500.0
    active: dB = 15.0
    """kept out by its cancelling well below 800 Hz"""
    noise: Annotated[float, quantity("Pa")] = 0.001

    def bench(self, rig: Rig) -> ListeningBench:
        return HeadsetBench(rig, self)


class Shelf:
    """A first-order shelf: gain `low` far below its corner and `high` far above; its state carried on."""

    def __init__(self, low: float, high: float, corner: float, rate: float) -> None:
        from scipy.signal import bilinear

        w = 2 * np.pi * corner
        self.b, self.a = bilinear([high, low * w], [1.0, w], rate)
        self.state = np.zeros(1)

    def __call__(self, x: Floats) -> Floats:
        from scipy.signal import lfilter

        y, self.state = lfilter(self.b, self.a, x, zi=self.state)
        return np.asarray(y)


class Side:
    """One coupler with what is on it."""

    def __init__(self, scene: HeadsetScene, part: SideScene, rate: float) -> None:
        from scipy.signal import butter

        self.part = part
        self.band = butter(2, [max(part.lowest, part.leak), part.highest], "band", fs=rate)
        self.state = np.zeros(4)
        kept = 10 ** (-scene.passive / 20)
        # A leak lets the low part in; a whole seal keeps little of it out anyway.
        self.cup = Shelf(1.0 if part.leak else 0.7, kept, scene.corner, rate)
        self.cancels = Shelf(10 ** (-scene.active / 20), 1.0, 800.0, rate)

    def __call__(self, own: Floats, around: Floats, state: str) -> Floats:
        from scipy.signal import lfilter

        made, self.state = lfilter(*self.band, own, zi=self.state)
        made = made * self.part.sensitivity * (-1.0 if self.part.reversed else 1.0)
        inside = self.cup(around)
        cancelled = self.cancels(inside)
        if state == "open":
            return around
        return np.asarray(made + (cancelled if state == "active" else inside))


class HeadsetBench(ListeningBench):
    """The source goes to the headset or to the field's loudspeakers, as a person puts it."""

    def __init__(self, rig: Rig, scene: HeadsetScene) -> None:
        self.scene_, self.route, self.worn = scene, "headset", "worn"
        rate = rig.front_end.rate
        self.sides = {"left": Side(scene, scene.left, rate), "right": Side(scene, scene.right, rate)}
        self.noises = np.random.default_rng([rig.standin.seed, 13])
        super().__init__(rig)

    def command(self, name: str, value: object) -> None:
        """`route` headset or field; `state` open, worn or active."""
        if name == "route":
            self.route = str(value)
        elif name == "state":
            self.worn = str(value)
        else:
            super().command(name, value)

    def play(self, source: Floats) -> InputBlock:
        self.source = source
        return super().play(source)

    def feel(self, t: Floats) -> dict[str, Floats]:
        volts = self.source * self.rig.amplifier.gain
        to_field = self.route == "field"
        own, around = (np.zeros(t.size), self.scene_.field * self.source) if to_field else (volts, np.zeros(t.size))
        made = {side: one(own, around, self.worn) for side, one in self.sides.items()}
        for side in made:
            made[side] = made[side] + self.scene_.noise * self.noises.standard_normal(t.size)
        return {**made, "stimulus": own, "voltage": own, "outside": around, "pressure": around}
