"""What lies between a stand-in's sensors and its converters: leads that pick up hum, and inputs that block a mean."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
from scipy.signal import lfilter

from ..device import InputBlock
from ..model import Rig

CORNER = 0.5
"""Hz of a first-order high-pass: what a capacitor in series with an input leaves"""
MAINS = 50.0
REJECTED = 100.0
"""By which an input with both leads hears less of what both pick up"""


class InputStage:
    """Coupling and pick-up of every input of a rig; a block goes in as it came from the sensors."""

    def __init__(self, rig: Rig) -> None:
        self.rate = rig.front_end.rate
        a = math.exp(-2 * math.pi * CORNER / self.rate)
        self.b, self.a = np.array([1.0, -1.0]) * (1 + a) / 2, np.array([1.0, -a])
        self.blocked = {i: np.zeros(1) for i, c in enumerate(rig.channels) if c.coupling == "ac"}
        volts = math.sqrt(2) * rig.standin.pickup if rig.standin is not None else 0.0
        self.hum = np.array([volts / (REJECTED if c.balanced else 1.0) for c in rig.channels])

    def __call__(self, block: InputBlock) -> InputBlock:
        if not self.blocked and not self.hum.any():
            return block
        made = np.array(block.samples)
        n = made.shape[1]
        if self.hum.any():
            t = (block.index * n + np.arange(n)) / self.rate
            made[: self.hum.size] += self.hum[:, None] * np.sin(2 * math.pi * MAINS * t)
        for i, held in self.blocked.items():
            made[i], self.blocked[i] = lfilter(self.b, self.a, made[i], zi=held)
        return replace(block, samples=made)
