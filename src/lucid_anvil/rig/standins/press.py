"""The stand-in press or pump: a reference and a unit under the same force or pressure, the unit with its own faults."""

from __future__ import annotations

import math

import numpy as np

from ...core.signal.sinefit import Floats
from ..device import InputBlock
from ..model import Rig
from ..scenes import PressScene
from .listening import ListeningBench

SPAN = 10.0
"""V at which it pushes with all that it has"""
TURNS = 0.1
"""of full over which the unit comes from one branch to the other"""
MISSES = 0.004
"""of what is asked for by which a hand is off"""
DEAF = math.radians(40.0)
"""at which the unit's mounting shows most"""


class PressBench(ListeningBench):
    """What the source plays is the press's drive; or a stand-in of a person turns it."""

    def __init__(self, rig: Rig) -> None:
        scene = rig.standin.scene
        assert isinstance(scene, PressScene)
        self.press, self.load, self.branch, self.angle, self.asked = scene, 0.0, 0.0, 0.0, 0.0
        self.hand = np.random.default_rng([rig.standin.seed, 99])
        super().__init__(rig)

    def command(self, name: str, value: object) -> None:
        """`position` [°] of the unit in its mounting; `ask`: what a person is asked to turn it to, and
        `lay`: weights that are laid on [N or Pa]."""
        if name == "position":
            self.angle = math.radians(float(str(value)))
        elif name == "ask":
            self.asked = float(str(value)) * (1 + MISSES * float(self.hand.standard_normal()))
        elif name == "lay":  # weights are what they are
            self.asked = float(str(value))
        else:
            super().command(name, value)

    def play(self, source: Floats) -> InputBlock:
        self.source = source
        return super().play(source)

    def feel(self, t: Floats) -> dict[str, Floats]:
        """By role: what presses on the reference, and what the unit makes of it [N or Pa]."""
        from scipy.signal import lfilter

        s, top = self.press, self.press.top
        wanted = np.full(t.size, self.asked) if s.hand else np.clip(self.source / SPAN, 0, 1) * top
        a = math.exp(-1 / (s.lag * self.rate))
        before = self.load
        load, _ = lfilter([1 - a], [1, -a], wanted, zi=[a * before])
        self.load = float(load[-1])
        # Which branch it is on: all the way over once it has turned by a tenth of its range.
        moved = np.cumsum(np.diff(load, prepend=before)) / (TURNS * top)
        branch = np.clip(self.branch + moved, -1, 1)
        self.branch = float(branch[-1])
        share = np.clip(load / top, 0, 1)
        middle = 4 * share * (1 - share)
        shown = load * (1 + s.scale / 100 + s.turn / 100 * math.cos(self.angle - DEAF))
        shown = shown + top / 100 * (
            s.bow * middle - s.hysteresis / 2 * branch * middle + s.offset + s.drift * float(t[0]) / 3600
        )
        return {"reference": load, "unit": shown}
