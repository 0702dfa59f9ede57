"""The stand-in actuator: play, a bow, and a lag, after whatever the source puts out."""

from __future__ import annotations

import numpy as np

from ...core.signal.sinefit import Floats
from ..device import InputBlock
from ..model import Rig
from ..scenes import ActuatorScene
from .listening import ListeningBench

SPAN = 10.0
"""V over which the bow is stated"""


class ActuatorBench(ListeningBench):
    """What the source plays is the actuator's drive; its sensor measures a length."""

    def __init__(self, rig: Rig) -> None:
        scene = rig.standin.scene
        assert isinstance(scene, ActuatorScene)
        self.actuator, self.at, self.shown = scene, 0.0, 0.0
        super().__init__(rig)

    def play(self, source: Floats) -> InputBlock:
        self.source = source
        return super().play(source)

    def feel(self, t: Floats) -> dict[str, Floats]:
        """By kind: length [m]."""
        from scipy.signal import lfilter

        s = self.actuator
        share = np.clip(self.source / SPAN, -1, 1)
        wanted = s.gain * self.source + s.gain * SPAN * s.bow / 100 * 4 * share * (1 - np.abs(share))
        moved = np.empty(wanted.size)
        at, half = self.at, s.play / 2
        # Play has a memory of one value; a drive of steps changes it a few times a block.
        if np.ptp(wanted) == 0:
            at = min(max(at, float(wanted[0]) - half), float(wanted[0]) + half)
            moved[:] = at
        else:
            for i, w in enumerate(wanted.tolist()):
                at = min(max(at, w - half), w + half)
                moved[i] = at
        self.at = at
        a = np.exp(-1 / (s.lag * self.rate))
        shown, _ = lfilter([1 - a], [1, -a], moved, zi=[a * self.shown])
        self.shown = float(shown[-1])
        return {"length": shown}
