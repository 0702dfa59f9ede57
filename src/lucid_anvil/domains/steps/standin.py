"""What is moved or pressed step by step on stand-in benches: an actuator that follows a voltage, and a press or pump
with a reference and a unit beside it."""

from __future__ import annotations

import math
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import model_validator

from ...contracts.settings import Flag, Model, Seconds, quantity
from ...core.quantities import parse
from ...core.signal.sinefit import Floats
from ...rig.device import InputBlock
from ...rig.model import Rig
from ...rig.standins.listening import ListeningBench

Percent = Annotated[float, quantity("%")]
BOWED = 10.0
"""V over which the actuator's bow is stated"""
SPAN = 10.0
"""V at which the press pushes with all that it has"""
TURNS = 0.1
"""of full over which the unit comes from one branch to the other"""
MISSES = 0.004
"""of what is asked for by which a hand is off"""
DEAF = math.radians(40.0)
"""at which the unit's mounting shows most"""


class ActuatorScene(Model):
    """An actuator that follows a voltage, late, with play, and not quite straight."""

    kind: Literal["actuator"]
    gain: Annotated[float, quantity("m/V")] = 1e-5
    play: Annotated[float, quantity("m")] = 1.5e-6
    """by which it lags behind where the drive turns"""
    bow: Percent = 1.0
    """of its travel over 10 V that it is off a straight line in the middle"""
    lag: Seconds = 0.15

    def bench(self, rig: Rig) -> ListeningBench:
        """The bench of it."""
        return ActuatorBench(rig)


class PressScene(Model):
    """A press or a pressure pump with a reference in it and a unit beside it, whose own faults the unit shows."""

    kind: Literal["press"]
    quantity: Literal["force", "pressure"] = "force"
    full: Any
    """At 10 V; or as far as a person turns it, where no source drives it"""
    lag: Seconds = 0.4
    hand: Flag = False
    """A person turns the spindle, towards what is asked for"""
    bow: Percent = 0.05
    """of full that the unit is off a straight line in the middle"""
    hysteresis: Percent = 0.08
    """of full between its branches in the middle"""
    turn: Percent = 0.03
    """of its reading that turning it in its mounting changes, either way"""
    scale: Percent = 0.0
    """that it shows too much"""
    offset: Percent = 0.2
    """of full that it shows at rest"""
    drift: Percent = 0.0
    """of full that its rest moves in an hour"""
    gauge_scale: Percent = 0.0
    """that a gauge beside it shows too much"""
    gauge_noise: Percent = 0.002
    """of full, standard deviation of its readings"""
    gauge_step: Percent = 0.001
    """of full, by which its digits go"""

    @property
    def top(self) -> float:
        """N or Pa"""
        return parse(self.full, "N" if self.quantity == "force" else "Pa", "scene: full")

    @model_validator(mode="after")
    def _pushes(self) -> PressScene:
        if self.top <= 0:
            raise ValueError("full must be above zero.")
        return self

    def bench(self, rig: Rig) -> ListeningBench:
        """The bench of it."""
        return PressBench(rig)


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
        share = np.clip(self.source / BOWED, -1, 1)
        wanted = s.gain * self.source + s.gain * BOWED * s.bow / 100 * 4 * share * (1 - np.abs(share))
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


class PressBench(ListeningBench):
    """What the source plays is the press's drive; or a stand-in of a person turns it."""

    def __init__(self, rig: Rig) -> None:
        scene = rig.standin.scene
        assert isinstance(scene, PressScene)
        self.press, self.load, self.branch, self.angle, self.asked = scene, 0.0, 0.0, 0.0, 0.0
        self.gauge_shown = 0.0
        self.hand = np.random.default_rng([rig.standin.seed, 99])
        self.digits = np.random.default_rng([rig.standin.seed, 98])
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

    def indication(self) -> float:
        """N or Pa that the gauge shows, in its digits; where it stands still, what it showed before."""
        s, top = self.press, self.press.top
        if self._wrong("frozen"):
            return self.gauge_shown
        value = self.load * (1 + s.gauge_scale / 100) + top * s.gauge_noise / 100 * self.digits.standard_normal()
        step = top * s.gauge_step / 100
        self.gauge_shown = round(value / step) * step if step else value
        return self.gauge_shown

    def silent(self) -> bool:
        """Whether the gauge answers nobody, now."""
        return self._wrong("silent")

    def _wrong(self, kind: str) -> bool:
        now = self.index * self.block / self.rate
        return any(f.kind == kind and f.channel == "gauge" for f in self.faults.between(now, now))

    def direct(self) -> Any:
        """Its gauge, in this very process; None where it has none."""
        from ...rig.standins.gauge import Direct

        return None if self.rig.gauge is None else Direct(self)

    def served(self, port: int = 0) -> Any:
        """Its gauge, as a server that any client may talk to."""
        from ...rig.standins.gauge import server

        return None if self.rig.gauge is None else server(self, self.rig.gauge, port)

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
