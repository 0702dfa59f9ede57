"""Torque tools: rundowns caught from a record, and how well the tool keeps its limits (ISO 5393, ISO 6789-1)."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, model_validator

from ...contracts.finding import Curve, Finding
from ...contracts.method import Axis, record_of
from ...contracts.recording import Channel
from ...contracts.samples import Readings, listed, points, samples_in, together
from ...contracts.settings import quantity
from ...contracts.sketch import level, line
from ...core.calibration.uncertainty import coverage_factor, mean_square_interval
from ...core.errors import BadInput
from ...core.quality.spread import spread
from ...core.steps import rundowns
from .shared import StepsMethod, StepsSettings

TORQUE = "N*m"
KEYS = {
    "count": ("Rundowns", ""),
    "mean": ("Mean", "N·m"),
    "standard_deviation": ("Standard deviation", "N·m"),
    "minimum": ("Smallest", "N·m"),
    "maximum": ("Largest", "N·m"),
    "cm": ("Capability cm", ""),
    "cmk": ("Capability cmk", ""),
    "angle_mean": ("Angle, mean", "deg"),
}


class TorqueSettings(StepsSettings):
    """The tool, its limits, and how a rundown is caught."""

    kind: Literal["driven", "click"] = "driven"
    threshold: Annotated[float, quantity(TORQUE)] | None = None
    """A rundown begins above it and ends below half of it; a quarter of the largest torque when missing"""
    snug: Annotated[float, quantity(TORQUE)] | None = None
    """Angle counts from this torque"""
    drop: Annotated[float, quantity("%")] = 5.0
    """Fall of torque that is a click"""
    low: Annotated[float, quantity(TORQUE)] | None = None
    high: Annotated[float, quantity(TORQUE)] | None = None
    """Limits of the tool, for cm and cmk"""
    torque_uncertainty: Annotated[float, quantity("%")] | None = None
    """Of the transducer, expanded (k = 2)"""
    strike: list[int] = Field(default_factory=list)
    """Numbers of rundowns, from 1, that a person left out"""

    @model_validator(mode="after")
    def _sensible(self) -> TorqueSettings:
        if any(v is not None and v <= 0 for v in (self.threshold, self.snug)) or not 0 < self.drop < 100:
            raise ValueError("threshold, snug and drop must be above zero.")
        if self.low is not None and self.high is not None and self.low >= self.high:
            raise ValueError("low must be below high.")
        return self


class TorqueCapability(StepsMethod):
    """The method as the registry knows it."""

    name = "torque-capability"
    title = "Torque tool"
    steady = True
    roles = ("torque",)
    optional_roles = ("angle",)
    about = "How well a torque tool repeats itself within its limits"
    sketch = (
        line(lambda x: 0.08 + 0.66 * sum(math.exp(-(((x - c) / 0.05) ** 2)) for c in (0.2, 0.5, 0.8))),
        level(0.88), level(0.62),
    )  # fmt: skip
    Settings = TorqueSettings
    readings = listed(KEYS)
    curves = {"peak": "Torque [N·m] over number", "angle": "Angle [deg] over number"}
    views = (Axis("peak", "Torque", ("peak",), "Rundown", "N·m"), Axis("angle", "Angle", ("angle",), "Rundown", "deg"))

    def evaluate(
        self, record: Mapping[str, Channel], settings: TorqueSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        held = record_of(record, settings)
        there = ["angle"] if "angle" in held else []
        rate, n = together(held, ("torque", *there))
        torque = samples_in(held, "torque", TORQUE, settings.sensitivity)[:n]
        turn = samples_in(held, "angle", "deg", settings.sensitivity)[:n] if there else None
        notes = []
        if n and -float(torque.min()) > float(torque.max()):
            torque = -torque
            notes.append("Torque was recorded below zero: magnitudes are given.")
        threshold = settings.threshold
        if threshold is None:
            threshold = max(0.25 * float(torque.max(initial=0.0)), 1e-12)
            notes.append(f"No threshold is given: a quarter of the largest torque, {threshold:.4g} N·m, is taken.")
        caught = rundowns.catch(torque, rate, threshold, settings.kind == "click", settings.drop / 100, turn,
                                settings.snug)  # fmt: skip
        for bad in settings.strike:
            if not 1 <= bad <= len(caught.runs):
                raise BadInput(f"strike: there is no rundown {bad}: {len(caught.runs)} were caught.")
        runs = [r for i, r in enumerate(caught.runs, start=1) if i not in settings.strike]
        notes += [f"At {r.start:.3f} s a rebound of {r.torque:.4g} N·m follows at once: it is not counted."
                  for r in caught.rebounds]  # fmt: skip
        notes += [f"Rundown {i} is struck." for i in sorted(settings.strike)]
        if caught.open:
            notes.append("The record ends within a rundown: that one is left out.")
        made = Readings(KEYS, settings)
        _readings(made, runs, settings, turn is not None)
        number = tuple(float(i) for i in range(1, len(runs) + 1))
        curves = []
        if runs:
            curves.append(_peaks(number, runs, settings))
            if any(r.angle is not None for r in runs):
                curves.append(Curve("angle", "Angle", number, tuple(r.angle for r in runs), "", "deg"))
        return Finding(self.name, made.all(), tuple(curves), notes=tuple(notes))


METHOD = TorqueCapability()


def _peaks(number: tuple[float, ...], runs: Sequence[rundowns.Rundown], settings: TorqueSettings) -> Curve:
    low, high = (None if v is None else (v,) * len(runs) for v in (settings.low, settings.high))
    stated = settings.torque_uncertainty
    doubt = None if stated is None else points([stated / 100 * r.torque for r in runs])
    return Curve("peak", "Torque", number, tuple(r.torque for r in runs), "", "N·m", doubt,
                 None if doubt is None else 2.0, low, high)  # fmt: skip


def _readings(made: Readings, runs: Sequence[rundowns.Rundown], settings: TorqueSettings, turned: bool) -> None:
    made.put("count", float(len(runs)), 0.0)
    if not runs:
        made.absent([k for k in KEYS if k != "count"], "no rundown was caught")
        return
    x = np.array([r.torque for r in runs])
    n = x.size
    found = spread(x.tolist(), settings.low, settings.high)
    share = (settings.torque_uncertainty or 0.0) / 100
    k = coverage_factor(n - 1) if n > 1 else 0.0
    s = found.standard_deviation
    one = "there is one rundown"
    made.put("mean", found.mean, None if s is None else float(np.hypot(k * s / np.sqrt(n), share * found.mean)))
    few, many = mean_square_interval(n - 1) if n > 1 else (1.0, 1.0)
    if s is None:
        made.put("standard_deviation", None, why=one)
    else:
        ends = (float(s * np.sqrt(few)), float(s * np.sqrt(many)))
        made.put("standard_deviation", s, max(ends[1] - s, s - ends[0]), interval=ends)
    made.put("minimum", found.minimum, share * found.minimum if share else None)
    made.put("maximum", found.maximum, share * found.maximum if share else None)
    limits = [v for v in (settings.low, settings.high) if v is not None]
    why = one if s is None else "no limit is given" if not limits else "all rundowns are equal"
    for key, value in (("cm", found.cm), ("cmk", found.cmk)):
        if value is None:
            made.put(key, None, why="one limit only is given" if key == "cm" and len(limits) == 1 and s else why)
            continue
        # ISO 22514-4, 7: cm by chi-square; cmk by its normal approximation.
        width = value * np.sqrt(1 / (9 * n * value**2) + 1 / (2 * (n - 1))) * 2 if key == "cmk" and value else 0.0
        root = np.sqrt(many), np.sqrt(few)
        ends = (value / root[0], value / root[1]) if key == "cm" else (value - abs(width), value + abs(width))
        made.put(key, value, max(ends[1] - value, value - ends[0]), interval=(float(ends[0]), float(ends[1])))
    angles = np.array([r.angle for r in runs if r.angle is not None])
    if not angles.size:
        made.put("angle_mean", None, why="there is no angle" if not turned else "no snug torque is given"
                 if settings.snug is None else "snug is never reached")  # fmt: skip
    else:
        m = angles.size
        wide = float(coverage_factor(m - 1) * angles.std(ddof=1) / np.sqrt(m)) if m > 1 else None
        made.put("angle_mean", float(angles.mean()), wide)
