"""Source impedance and damping factor of an amplifier, from its load on and off (IEC 60268-3, 14.6)."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Annotated, Any

import numpy as np
from pydantic import Field, model_validator

from ...contracts.finding import Finding, Reading
from ...contracts.method import Axis
from ...contracts.recording import Channel, Floats
from ...contracts.settings import Flag, Model, quantity
from ...core.audio.distortion import fundamental
from ...core.audio.impedance import Level, SourceImpedance, decimal_grid, level_of, source_impedance
from ...core.audio.tones import fit
from ...core.errors import BadInput
from .output import METER_RATE, OutputMethod, OutputSettings, Piece, limits_of, listed, nothing, pieces

UNITS = {
    "source_impedance": ("Source impedance", "ohm"),
    "source_reactance": ("Source reactance", "ohm"),
    "damping_factor": ("Damping factor, rated load over source impedance", ""),
}


class LoadStep(Model):
    """A stretch with the load on, or off."""

    load: Flag
    start: Annotated[float, quantity("s")]
    stop: Annotated[float, quantity("s")]

    @model_validator(mode="after")
    def _ordered(self) -> LoadStep:
        if not 0 <= self.start < self.stop:
            raise ValueError("stop must come after start.")
        return self


class ImpedanceSettings(OutputSettings):
    """The load and when it was on."""

    load: Annotated[float, quantity("ohm")] = 8.0
    """Rated"""
    load_measured: Annotated[float, quantity("ohm")] | None = None
    """As measured, hot, leads included up to where the voltage is taken"""
    load_uncertainty: Annotated[float, quantity("ohm")] | None = None
    """Expanded (k = 2)"""
    steps: list[LoadStep] = Field(default_factory=list)
    resolution: Annotated[float, quantity("V")] | None = None
    """Smallest step of the readings; by default the grid that all values lie on"""

    @model_validator(mode="after")
    def _sensible(self) -> ImpedanceSettings:
        if self.load <= 0 or (self.load_measured is not None and self.load_measured <= 0):
            raise ValueError("a load must be above zero.")
        if self.resolution is not None and self.resolution < 0:
            raise ValueError("a resolution can't be below zero.")
        return self


class OutputImpedance(OutputMethod):
    """The method as the registry knows it."""

    name = "output-impedance"
    title = "Source impedance and damping factor"
    roles: tuple[str, ...] = ("output",)
    Settings = ImpedanceSettings
    readings = listed(UNITS)
    curves: dict[str, str] = {}
    views: tuple[Axis, ...] = ()

    def evaluate(
        self, record: Mapping[str, Channel], settings: ImpedanceSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        limits = limits_of(settings, UNITS)
        (piece,) = pieces(record, settings, ("output",))
        steps = settings.steps or [
            LoadStep(load=m["load"], start=m["start"], stop=m["stop"]) for m in marks
            if m.get("kind") == "load" and "stop" in m
        ]  # fmt: skip
        if {s.load for s in steps} != {True, False}:
            raise BadInput("steps: a stretch with the load on and one with it off are needed.")
        ends = max(s.stop for s in steps)
        if ends > piece.x.size / piece.rate + 1.5 / piece.rate:
            raise BadInput(f"steps: the record ends at {piece.x.size / piece.rate:g} s, before {ends:g} s.")
        resolution = grid_of(piece) if settings.resolution is None else settings.resolution
        read = levels_of(piece, steps, resolution)
        if isinstance(read, str):
            return nothing(self.name, UNITS, read, limits)
        actual = settings.load_measured or settings.load
        try:
            found = source_impedance(read, settings.load, actual, resolution, settings.load_uncertainty or 0.0)
        except ValueError as bad:
            return nothing(self.name, UNITS, str(bad), limits)
        finding = finding_of(self.name, found, settings, resolution, piece, limits)
        turned = None if piece.rate < METER_RATE else reactance(piece, steps, actual)
        if turned is None:
            return finding
        label, unit = UNITS["source_reactance"]
        extra = limits.judge(Reading("source_reactance", label, turned[0], unit, turned[1], 2.0))
        return replace(finding, readings=(*finding.readings, extra))


def cut(piece: Piece, step: LoadStep) -> Floats:
    return piece.x[int(round(step.start * piece.rate)) : int(round(step.stop * piece.rate))]


def grid_of(piece: Piece) -> float:
    """The grid that all values lie on [V]: a power of ten for a meter, the converter's step for a waveform."""
    if piece.rate < METER_RATE:
        return decimal_grid(piece.x)
    values = np.unique(piece.x[:200_000])
    gaps = np.diff(values)
    top = float(np.max(np.abs(values), initial=0.0))
    gaps = gaps[gaps > 1e-9 * top]
    return float(gaps.min()) if gaps.size and gaps.min() > 1e-7 * top else 0.0


def levels_of(piece: Piece, steps: Sequence[LoadStep], resolution: float) -> list[Level] | str:
    """Level of each step: of meter readings their mean, of a waveform its tone; or why there is none."""
    made = []
    for step in steps:
        x = cut(piece, step)
        middle = (step.start + step.stop) / 2
        if piece.rate < METER_RATE:
            if x.size < 1:
                return f"no reading lies between {step.start:g} s and {step.stop:g} s"
            made.append(level_of(x, middle, step.load, resolution))
            continue
        at = fundamental(x, piece.rate, None, (10.0, 0.45 * piece.rate)) if x.size > 64 else None
        if at is None:
            return f"there is no tone between {step.start:g} s and {step.stop:g} s"
        orders = np.array([[k] for k in (1, 2, 3) if k * at < 0.49 * piece.rate])
        try:
            tone = fit(x, piece.rate, orders, np.array([at]))
        except ValueError:
            return f"the stretch from {step.start:g} s is too short for {at:.4g} Hz"
        made.append(Level(middle, step.load, float(tone.rms[0]), math.sqrt(float(tone.noise[0]) / 2), False, x.size))
    return made


def reactance(piece: Piece, steps: Sequence[LoadStep], load: float) -> tuple[float, float] | None:
    """Imaginary part of Z = R·(U0/U1 - 1) [ohm] and its doubt (k = 2), where the tone goes on through all steps, so
    that their phases may be compared; None where it does not."""
    at = fundamental(cut(piece, steps[0]), piece.rate, None, (10.0, 0.45 * piece.rate))
    if at is None:
        return None
    try:
        first = fit(cut(piece, steps[0]), piece.rate, np.array([[1]]), np.array([at]))
        held = [fit(cut(piece, s), piece.rate, np.array([[1]]), first.bases, refine=False) for s in steps]
    except ValueError:
        return None
    starts = np.array([int(round(s.start * piece.rate)) / piece.rate for s in steps])
    turned = np.array([f.phasors[0] for f in held]) * np.exp(-2j * np.pi * float(first.bases[0]) * starts)
    on = np.array([s.load for s in steps])
    noise = max(float(f.noise[0] / f.power[0]) for f in held)
    # A clock that is a little off turns the phase evenly; that much is taken out between steps of one kind.
    phase = np.unwrap(np.angle(turned))
    middles = np.array([(s.start + s.stop) / 2 for s in steps])
    rows = np.array([~on, on, middles - middles.mean()], dtype=float).T
    if len(steps) < 4 or np.linalg.matrix_rank(rows) < 3:
        return None
    solved = np.linalg.lstsq(rows, phase, rcond=None)[0]
    left = float(np.std(phase - rows @ solved)) + 1e-9
    if left > 0.01:
        return None
    ratio = float(np.mean(np.abs(turned[~on]))) / float(np.mean(np.abs(turned[on])))
    value = load * ratio * np.sin(float(solved[0] - solved[1]))
    return float(value), float(2 * load * np.hypot(left, np.sqrt(noise)))


def finding_of(
    name: str, found: SourceImpedance, settings: ImpedanceSettings, resolution: float, piece: Piece, limits: Any
) -> Finding:
    """Readings with their doubt; only an interval for a damping factor whose impedance can't be told from zero."""
    doubt = (found.high - found.low) / 2
    zero = found.low <= 0
    made = [
        Reading("source_impedance", UNITS["source_impedance"][0], max(found.value, 0.0), "ohm", doubt, 2.0,
                interval=(max(found.low, 0.0), max(found.high, 0.0)) if zero else None)
    ]  # fmt: skip
    label = UNITS["damping_factor"][0]
    if found.high <= 0:
        why = "the output rises under load: the impedance reads below zero by more than its doubt"
        made = [Reading("source_impedance", UNITS["source_impedance"][0], found.value, "ohm", doubt, 2.0, valid=False,
                        reason=why), Reading("damping_factor", label, None, "", valid=False, reason=why)]  # fmt: skip
    else:
        span = (found.damping_low, found.damping_high)
        spread = None if found.damping is None else max(found.damping - span[0], span[1] - found.damping)
        made.append(Reading("damping_factor", label, found.damping, "", spread, None if spread is None else 2.0,
                            interval=span))  # fmt: skip
    notes = [f"{found.unloaded:.6g} V without load, {found.loaded:.6g} V with it; resolution {resolution:.2g} V."]
    if piece.rate < METER_RATE:
        notes.append(f"The record ({piece.rate:g} Hz) is taken as meter readings, V rms.")
    if settings.load_measured is None:
        notes.append("No load_measured is given: the load is taken at its rated value.")
    if zero and found.high > 0:
        notes.append(f"The source impedance can't be told from zero: the damping factor is more than"
                     f" {found.damping_low:.3g}.")  # fmt: skip
    return Finding(name, tuple(limits.judge(r) for r in made), notes=tuple(notes))


METHOD = OutputImpedance()
