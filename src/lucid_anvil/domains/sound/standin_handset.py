"""The stand-in handset on its network: a mouth before it, an ear on it, and a line of eight bits a sample between."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np

from ...contracts.recording import Floats
from ...contracts.settings import Model, Seconds, quantity
from ...core.audio.g711 import over_the_line
from ...core.errors import BadInput
from ...rig.device import InputBlock
from ...rig.model import Rig
from ...rig.standins.listening import ListeningBench

Hz = Annotated[float, quantity("Hz")]
NARROW = 8000
"""Hz, samples of the line"""
FULL = 1.6
"""V at the line of the codec's full scale"""


class HandsetScene(Model):
    """One way through it."""

    kind: Literal["handset"]
    way: Literal["sending", "receiving", "sidetone"] = "sending"
    mouth: Annotated[float, quantity("Pa/V")] = 2.0
    """of the mouth simulator at its reference point"""
    sensitivity: float = 0.4
    """V/Pa sending, Pa/V receiving, Pa/Pa beside"""
    lowest: Hz = 280.0
    highest: Hz = 3450.0
    codec: Literal["a-law", "mu-law", "none"] = "a-law"
    square: float = 0.01
    """even distortion, per unit of what is sent"""
    delay: Seconds = 0.045
    noise: float = 0.0001
    """rms of its own at what it puts out, V or Pa"""

    def bench(self, rig: Rig) -> ListeningBench:
        return HandsetBench(rig, self)


class HandsetBench(ListeningBench):
    """What the source plays goes to the mouth or to the line; what comes out is the response."""

    def __init__(self, rig: Rig, scene: HandsetScene) -> None:
        from scipy.signal import butter

        self.scene_ = scene
        rate = rig.front_end.rate
        self.every = round(rate / NARROW)
        if self.every * NARROW != rate or rig.front_end.block % self.every:
            raise BadInput(f"{rig.name}: a stand-in handset needs a rate that is a whole multiple of {NARROW} Hz, and a"
                           " block of whole samples of its line.")  # fmt: skip
        self.band = butter(4, [scene.lowest, scene.highest], "band", fs=rate, output="sos")
        self.after = butter(8, 3600.0, fs=rate, output="sos")
        self.states = {"band": np.zeros((4, 2)), "after": np.zeros((4, 2))}
        self.waiting = np.zeros(max(int(round(scene.delay * rate)), 1))
        self.noises = np.random.default_rng([rig.standin.seed, 14])
        super().__init__(rig)

    def play(self, source: Floats) -> InputBlock:
        self.source = source
        return super().play(source)

    def feel(self, t: Floats) -> dict[str, Floats]:
        """By role: stimulus [Pa or V] and response [V or Pa]."""
        from scipy.signal import sosfilt

        s = self.scene_
        stimulus = self.source * (self.rig.amplifier.gain if s.way == "receiving" else s.mouth)
        made, self.states["band"] = sosfilt(self.band, stimulus, zi=self.states["band"])
        made = s.sensitivity * (made + s.square * made**2)
        if s.codec != "none" and s.way != "sidetone":
            scale = FULL if s.way == "sending" else FULL * s.sensitivity
            held = over_the_line(made[:: self.every] / scale, "a" if s.codec == "a-law" else "u") * scale
            made, self.states["after"] = sosfilt(self.after, np.repeat(held, self.every), zi=self.states["after"])
        late = np.concatenate([self.waiting, made])
        self.waiting = late[made.size :]
        heard = late[: made.size] + s.noise * self.noises.standard_normal(t.size)
        return {"stimulus": stimulus, "response": heard}
