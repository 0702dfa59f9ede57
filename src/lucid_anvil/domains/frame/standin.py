"""The stand-in load frame: a valve that takes a command of speed, a crosshead, a specimen, until it breaks."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field

from ...contracts.settings import Model, Seconds, quantity
from ...core.signal.sinefit import Floats
from ...rig.device import InputBlock
from ...rig.model import Fault, FramePart, Rig
from ...rig.standins.listening import ListeningBench
from .standin_machine import Cell, CellPart, Late, PinPart, Play
from .standin_viscous import Bar, ViscousPart

Percent = Annotated[float, quantity("%")]

POINTS = 4001
ASTRAY = 1e-3
"""Share of its greatest speed by which a valve may miss what it is told"""
SHUTS = 0.1
"""s after which the frame shuts a valve that still moves where rest is commanded"""
LOCKS = {2: "emergency_stop", 3: "door"}
"""Faults by the bit that tells of them (`device.INTERLOCKS`)"""


class RubberPart(Model):
    """An elastomer in the frame instead: a spring that softens from cycle to cycle, a dashpot, a set that grows."""

    stiffness: Annotated[float, quantity("N/m")] = 4e5
    loss: float = Field(default=0.12, ge=0, le=2)
    """tan delta at 1 Hz"""
    softening: Percent = 4.0
    """of its stiffness, each time ten times as many cycles were made"""
    set: Percent = 2.0
    """of the swing that stays, each time ten times as many cycles were made"""


class FrameScene(Model):
    """A specimen in a load frame: elastic, flowing, hardening, softening, broken. Its extensometer sits on its own
    gauge length."""

    kind: Literal["frame"]
    modulus: Annotated[float, quantity("Pa")] = 206e9
    area: Annotated[float, quantity("m^2")] = 50e-6
    length: Annotated[float, quantity("m")] = 0.075
    """parallel"""
    gauge: Annotated[float, quantity("m")] = 0.05
    flow: Annotated[float, quantity("Pa")] = 352e6
    """stress at which it begins to flow"""
    strength: Annotated[float, quantity("Pa")] = 498e6
    uniform: Percent = 14.0
    """strain at its strength"""
    breaks: Percent = 20.0
    """strain at which it breaks"""
    stiffness: Annotated[float, quantity("N/m")] = 4e7
    """of frame, cell and grips in series"""
    slack: Annotated[float, quantity("m")] = 0.0002
    """travel before the grips bite"""
    viscous: ViscousPart | None = None
    rubber: RubberPart | None = None
    """An elastomer between plates instead, pressed where the crosshead goes below zero"""
    lag: Seconds = 0.02
    """time constant of the valve"""
    backlash: Annotated[float, quantity("m")] = Field(default=0.0, ge=0)
    """of the drive: at each turn the crosshead stays until it is crossed"""
    cell: CellPart | None = None
    """the load cell's own resonance; none when missing"""
    pin: PinPart | None = Field(default_factory=PinPart)
    """of the extensometer; null: it has none"""
    gripping: Annotated[float, quantity("N")] = 0.0
    """that closing the second grip loads the specimen with"""
    unset: dict[str, Annotated[float, quantity("m")]] = Field(default_factory=dict)
    """by role, how far from the middle of its range a transducer stands before somebody sets it"""
    encoder_lag: Seconds = 0.0
    """by which lengths come late, as a time constant"""

    def bench(self, rig: Rig) -> ListeningBench:
        """The bench of it."""
        return FrameBench(rig)


class Specimen:
    """Force and strain over the travel of the crosshead, with what was stretched for good; SI throughout."""

    def __init__(self, scene: FrameScene) -> None:
        s = self.scene = scene
        first = s.flow / s.modulus
        flowing = np.linspace(first, s.breaks / 100, POINTS)
        strain = np.concatenate([np.linspace(0, first, 400, endpoint=False), flowing])
        uniform = s.uniform / 100
        grown = np.clip((strain - first) / max(uniform - first, 1e-9), 0, 1)
        stress = s.flow + (s.strength - s.flow) * (1 - (1 - grown) ** 2)
        past = np.clip((strain - uniform) / max(s.breaks / 100 - uniform, 1e-9), 0, 1)
        stress = np.where(strain < first, s.modulus * strain, stress * (1 - 0.2 * past**2))
        self.force_at = stress * s.area
        self.strain_at = strain
        # Travel is the specimen's and the machine's: what is read off the crosshead is both.
        self.travel_at = np.maximum.accumulate(s.slack + strain * s.length + self.force_at / s.stiffness)
        self.elastic = 1 / (s.length / (s.modulus * s.area) + 1 / s.stiffness)
        self.most = 0.0
        self.broken = False

    def __call__(self, travel: Floats) -> tuple[Floats, Floats]:
        """Force [N] and strain over the travel [m] of one block's samples, in their order."""
        most = np.maximum(np.maximum.accumulate(travel), self.most)
        force = np.interp(most, self.travel_at, self.force_at, left=0.0)
        strain = np.interp(most, self.travel_at, self.strain_at, left=0.0)
        back = most - travel
        force = force - self.elastic * back
        strain = strain - self.elastic * back / (self.scene.modulus * self.scene.area)
        loose = (force < 0) | (most < self.scene.slack)
        force = np.where(loose, 0.0, force)
        gone = most >= self.travel_at[-1]
        if self.broken or gone.any():
            at = 0 if self.broken else int(np.argmax(gone))
            force[at:] = 0.0
            strain[at:] = self.scene.breaks / 100
            self.broken = True
        self.most = float(most[-1])
        return force, strain


class Rubber:
    """Force over travel of an elastomer: softer and more set with each cycle."""

    def __init__(self, part: RubberPart, rate: float) -> None:
        self.part, self.rate = part, rate
        self.before, self.count, self.up, self.swing = 0.0, 1.0, False, 0.0
        self.low = self.high = 0.0

    def __call__(self, travel: Floats) -> tuple[Floats, Floats]:
        decades = float(np.log10(max(self.count, 1.0)))
        k = self.part.stiffness * (1 - self.part.softening / 100) ** decades
        left = self.part.set / 100 * self.swing * decades
        speed = np.diff(np.concatenate([[self.before], travel])) * self.rate
        self.before = float(travel[-1])
        squeezed = np.minimum(travel + left, 0.0)  # plates do not pull
        force = k * squeezed + np.where(squeezed < 0, k * self.part.loss / (2 * np.pi) * speed, 0.0)
        self._count(travel)
        return np.minimum(force, 0.0), squeezed

    def _count(self, travel: Floats) -> None:
        """A cycle each time that it goes back by more than half of its swing."""
        low, high = float(travel.min()), float(travel.max())
        self.low, self.high = min(self.low, low), max(self.high, high)
        self.swing = self.high - self.low
        middle = (self.low + self.high) / 2
        if self.up and low < middle - 0.2 * self.swing:
            self.up = False
        elif not self.up and high > middle + 0.2 * self.swing and self.swing > 1e-5:
            self.up = True
            self.count += 1


class FrameBench(ListeningBench):
    """The frame behind the front end: what the source plays is the crosshead's speed."""

    def __init__(self, rig: Rig) -> None:
        scene = rig.standin.scene
        assert isinstance(scene, FrameScene)
        self.gauge = scene.gauge
        self.lag = scene.lag
        rate = rig.front_end.rate
        self.specimen: Specimen | Rubber | Bar = Specimen(scene)
        if scene.rubber is not None:
            self.specimen = Rubber(scene.rubber, rate)
        elif scene.viscous is not None:
            self.specimen = Bar(scene.viscous, rate)
        self.set_point = self.air = rig.room.temperature
        """°C, of the chamber"""
        if isinstance(self.specimen, Bar):
            self.specimen.temperature = self.air
        self.part = rig.frame or FramePart()
        self.play_ = Play(scene.backlash)
        self.cell = None if scene.cell is None else Cell(scene.cell, rate)
        self.encoder = Late(scene.encoder_lag, rate)
        self.travel, self.speed = 0.0, 0.0
        self.bare = False
        self.unset = dict(scene.unset)
        self.pin = scene.pin
        self.gripped = scene.gripping
        """N, of closed grips"""
        self.acting: list[Fault] = []
        self.stood: float | None = None
        """m/s at which its valve is stuck"""
        self.astray = 0.0
        """s for which it has not gone as it was told"""
        super().__init__(rig)

    def command(self, name: str, value: object) -> None:
        """`take_off`: the extensometer, which springs back; `grip`: the second
        one closed or open; `set_transducers`: into their range."""
        if name == "take_off":
            self.bare = bool(value)
        elif name == "grip":
            assert isinstance(self.rig.standin.scene, FrameScene)
            self.gripped = self.rig.standin.scene.gripping if value else 0.0
        elif name == "set_transducers":  # as a person would, not quite into the middle
            self.unset = {r: -self.travel + 0.1 * v for r, v in self.unset.items()}
        else:
            super().command(name, value)

    def play(self, source: Floats) -> InputBlock:
        """One block; door and emergency stop show in it, and hold the valve shut by themselves."""
        first = self.index * self.block / self.rate
        self.acting = self.faults.between(first, first + (self.block - 1) / self.rate)
        kinds = {f.kind for f in self.acting}
        bits = sum(1 << bit for bit, kind in LOCKS.items() if kind in kinds)
        self.source = np.zeros_like(source) if bits else source
        made = super().play(source)  # the record has what was commanded
        return replace(made, interlock=bits) if bits else made

    def feel(self, t: Floats) -> dict[str, Floats]:
        """By role: force, extension, displacement."""
        from scipy.signal import lfilter

        a = np.exp(-1 / (self.lag * self.rate))
        wanted = self._valve(self.part.speed * self.source, t)
        speed, _ = lfilter([1 - a], [1, -a], wanted, zi=[a * self.speed])
        self.speed = float(speed[-1])
        travel = np.clip(self.travel + np.cumsum(speed) / self.rate, -self.part.travel / 2, self.part.travel / 2)
        self.travel = float(travel[-1])
        travel = self.play_(travel)
        warm = self._warm(t.size)
        force, strain = self.specimen(travel)
        for fault in self.acting:
            if fault.kind == "breaks":
                force = np.where(t >= fault.at, 0.0, force)
        if self.gripped and not getattr(self.specimen, "broken", False):
            force = force + self.gripped
        extension = np.zeros(t.size) if self.bare else self._held(strain * self.gauge, t)
        force = force if self.cell is None else self.cell(force)
        shown = self.encoder(travel)
        return {"force": force, "extension": extension, "displacement": shown, "length": shown, "temperature": warm,
                **{role: shown + off for role, off in self.unset.items()}}  # fmt: skip

    def _valve(self, wanted: Floats, t: Floats) -> Floats:
        """m/s that the valve gives where so many are wanted. Once it has not gone as told for a while the frame shuts
        it by itself: without power it is closed."""
        made = wanted
        for fault in self.acting:
            if fault.kind == "runaway":
                made = np.where(t >= fault.at, fault.size * wanted, made)
            elif fault.kind == "stuck":
                if self.stood is None:
                    self.stood = float(wanted[min(int(np.searchsorted(t, fault.at)), t.size - 1)])
                made = np.where(t >= fault.at, self.stood, made)
        off = float(np.max(np.abs(made - wanted))) > ASTRAY * 10 * self.part.speed
        self.astray = self.astray + t.size / self.rate if off and not np.any(wanted) else self.astray
        return np.zeros(t.size) if self.astray > SHUTS else made

    def _held(self, extension: Floats, t: Floats) -> Floats:
        """What the extensometer shows; `size` of its faults is in mm."""
        if self.pin is not None:
            extension = self.pin(extension, self.index * self.block / self.rate)
        for fault in self.acting:
            if fault.kind == "slip":
                extension = extension + np.where(t >= fault.at, 1e-3 * fault.size, 0.0)
            elif fault.kind == "falls_off":
                extension = np.where(t >= fault.at, 1e-3 * fault.size, extension)
        return extension

    def direct(self) -> Any:
        """Its chamber, in this very process; None where it has none."""
        from ...rig.standins.chamber import Direct

        return None if self.rig.chamber is None else Direct(self, self.rig.chamber)

    def served(self, port: int = 0) -> Any:
        """Its chamber, as a server that any client may talk to."""
        from ...rig.standins.chamber import server

        return None if self.rig.chamber is None else server(self, self.rig.chamber, port)

    def _warm(self, n: int) -> Floats:
        """°C of the specimen in the block: air behind its set point, specimen behind the air."""
        if not isinstance(self.specimen, Bar):
            return np.full(n, self.air)
        part, span, bar = self.specimen.part, n / self.rate, self.specimen
        before = bar.temperature
        self.air += (self.set_point - self.air) * (1 - np.exp(-span / part.air_lag))
        bar.temperature += (self.air - bar.temperature) * (1 - np.exp(-span / part.lag))
        return np.linspace(before, bar.temperature, n + 1)[1:]

    def silent(self) -> bool:
        """Whether the chamber's controller answers nobody, now."""
        now = self.index * self.block / self.rate
        return any(f.kind == "silent" and f.channel == "chamber" for f in self.faults.between(now, now))
