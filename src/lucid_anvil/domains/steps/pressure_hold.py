"""A pressure test from a log: what a vessel loses over hours, compensated for temperature."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, model_validator

from ...contracts.finding import Curve, Finding
from ...contracts.method import Axis, record_of
from ...contracts.recording import Channel, Floats
from ...contracts.samples import Readings, celsius, listed, points, samples_in
from ...contracts.settings import Model, quantity
from ...contracts.sketch import level, line
from ...core.errors import BadInput
from ...core.steps import hold
from .shared import StepsMethod, StepsSettings

BAR = 1e5
KEYS = {
    "start": ("Pressure at the window's begin", "bar"),
    "end": ("Pressure at the window's end", "bar"),
    "minimum": ("Lowest in the window", "bar"),
    "maximum": ("Highest in the window", "bar"),
    "record_minimum": ("Lowest of the log", "bar"),
    "record_maximum": ("Highest of the log", "bar"),
    "elapsed": ("Window", "s"),
    "decay": ("Decay", "bar/h"),
    "decay_raw": ("Decay, as recorded", "bar/h"),
}
MOST = 20_000
"""Points of a curve"""


class HoldWindow(Model):
    """Both ends in s from the log's begin."""

    model_config = {**Model.model_config, "populate_by_name": True}
    low: Annotated[float, quantity("s")] = Field(alias="from")
    high: Annotated[float, quantity("s")] = Field(alias="to")

    @model_validator(mode="after")
    def _ordered(self) -> HoldWindow:
        if not 0 <= self.low < self.high:
            raise ValueError("to must come after from.")
        return self


class Alarm(Model):
    """Lines that the pressure should not go beyond while it is logged; they judge nothing."""

    low: Annotated[float, quantity("Pa")] | None = None
    high: Annotated[float, quantity("Pa")] | None = None

    @model_validator(mode="after")
    def _ordered(self) -> Alarm:
        if self.low is not None and self.high is not None and self.low >= self.high:
            raise ValueError("high must lie above low.")
        return self


class HoldSettings(StepsSettings):
    """The window, and how temperature is taken out."""

    window: HoldWindow | None = None
    """{from, to}; the whole log when missing"""
    medium: Literal["gas"] | None = None
    coefficient: Annotated[float, quantity("Pa/K")] | None = None
    """By which temperature lifts the pressure of a liquid in its vessel"""
    atmosphere: Annotated[float, quantity("Pa")] = 101325.0
    """For gas, since pressure is gauge"""
    alarm: Alarm = Field(default_factory=Alarm)
    """{low, high}: how long the log was beyond them is told"""
    pressure_uncertainty: Annotated[float, quantity("Pa")] | None = None
    """Expanded (k = 2), of one value"""

    @model_validator(mode="after")
    def _one(self) -> HoldSettings:
        if self.medium is not None and self.coefficient is not None:
            raise ValueError("medium and coefficient: give one of them, for a gas or for a liquid.")
        if self.atmosphere <= 0:
            raise ValueError("atmosphere: it must be above zero.")
        return self


class PressureHold(StepsMethod):
    """The method as the registry knows it."""

    name = "pressure-hold"
    title = "Pressure hold"
    roles = ("pressure",)
    optional_roles = ("temperature",)
    logs = True
    about = "Whether a vessel is tight, from a logger's hours of pressure and temperature"
    sketch = (line(lambda x: 0.8 - 0.18 * x + 0.03 * math.sin(14 * x)), level(0.45))
    Settings = HoldSettings
    readings = listed(KEYS)
    curves = {"pressure": "Pressure [bar] over s", "compensated": "Pressure, temperature taken out [bar] over s",
              "alarm_low": "Alarm line [bar]; alarm_high likewise"}  # fmt: skip
    views = (Axis("pressure", "Pressure", ("pressure", "compensated", "line", "alarm*"), "s", "bar"),)

    def evaluate(
        self, record: Mapping[str, Channel], settings: HoldSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        held = record_of(record, settings)
        channel = held["pressure"]
        p = samples_in(held, "pressure", "Pa", settings.sensitivity)
        t = channel.time()
        if t.size < 3:
            raise BadInput("the log has fewer than three rows.")
        begin, end = (float(t[0]), float(t[-1])) if settings.window is None else (
            settings.window.low, settings.window.high)  # fmt: skip
        if end > float(t[-1]) + 1.5 * float(np.median(np.diff(t))):
            raise BadInput(f"window: the log ends at {t[-1]:g} s, before {end:g} s.")
        inside = (t >= begin - 1e-9) & (t <= end + 1e-9)
        if inside.sum() < 3:
            raise BadInput("window: it holds fewer than three readings: make it wider.")
        made = Readings(KEYS, settings)
        heat = None
        if "temperature" in held:
            heat = celsius(held)
            if held["temperature"].length != channel.length:
                raise BadInput("pressure and temperature have different lengths: log them together.")
        level, notes = _compensated(p, heat, inside, settings)
        for a, b in hold.gaps(t):
            notes.append(f"The log has a gap of {b - a:.4g} s from {a:.6g} s to {b:.6g} s: nothing is known of it.")
        line = _readings(made, t, p, level, inside, (begin, end), settings)
        if settings.pressure_uncertainty is None:
            notes.append("No pressure_uncertainty is given: extremes and levels have no doubt here, the decay that of"
                         " its scatter alone.")  # fmt: skip
        keep = np.unique(np.linspace(0, t.size - 1, min(t.size, MOST)).astype(int))
        curves = [Curve("pressure", "Pressure", points(t[keep]), points(p[keep] / BAR), "s", "bar")]
        if level is not None:
            curves.append(
                Curve("compensated", "Temperature taken out", points(t[keep]), points(level[keep] / BAR), "s", "bar")
            )
        curves.append(Curve("line", "Line of the window", (begin, end), points(np.array(line) / BAR), "s", "bar"))
        notes += _alarms(t, p, settings.alarm)
        for key, value in (("low", settings.alarm.low), ("high", settings.alarm.high)):
            if value is not None:
                ends = (float(t[0]), float(t[-1]))
                curves.append(Curve(f"alarm_{key}", f"Alarm, {key}", ends, (value / BAR, value / BAR), "s", "bar"))
        window = {"setting": "window", "curves": ["pressure", "compensated"], "over": "x", "unit": "s", "low": begin,
                  "high": end}  # fmt: skip
        return Finding(self.name, made.all(), tuple(curves), notes=tuple(notes), detail={"between": window})


METHOD = PressureHold()


def _alarms(t: Floats, p: Floats, alarm: Alarm) -> list[str]:
    """For how long the pressure was beyond an alarm line, and since when; a gap counts to neither side."""
    spans = np.diff(t, append=t[-1])
    for a, _ in hold.gaps(t):
        spans[np.searchsorted(t, a)] = 0.0
    told = []
    for word, value, beyond in (
        ("above", alarm.high, None if alarm.high is None else p > alarm.high),
        ("below", alarm.low, None if alarm.low is None else p < alarm.low),
    ):  # fmt: skip
        if value is None or beyond is None:
            continue
        if not beyond.any():
            told.append(f"Never {word} the alarm line of {value / BAR:g} bar.")
            continue
        begins = int(np.count_nonzero(np.diff(beyond.astype(int), prepend=0) == 1))
        first, worst = float(t[np.argmax(beyond)]), float(p[beyond].max() if word == "above" else p[beyond].min())
        told.append(f"{word.capitalize()} the alarm line of {value / BAR:g} bar for {spans[beyond].sum():.6g} s"
                    f"{f' in {begins} stretches' if begins > 1 else ''}, first at {first:.6g} s, as far as"
                    f" {worst / BAR:.5g} bar.")  # fmt: skip
    return told


def _compensated(
    p: Floats, heat: Floats | None, inside: np.ndarray, settings: HoldSettings
) -> tuple[Floats | None, list[str]]:
    if heat is None:
        return None, ["There is no temperature: the decay is not compensated."]
    mean = float(heat[inside].mean())
    moved = f"Temperature in the window {heat[inside].min():.4g} to {heat[inside].max():.4g} °C, mean {mean:.4g} °C."
    if settings.medium == "gas":
        return hold.gas(p, heat, mean, settings.atmosphere), [moved]
    if settings.coefficient is not None:
        return hold.liquid(p, heat, mean, settings.coefficient), [moved]
    return None, [moved, "Neither medium nor coefficient is given: the decay is not compensated."]


def _readings(
    made: Readings, t: Floats, p: Floats, level: Floats | None, inside: np.ndarray, window: tuple[float, float],
    settings: HoldSettings,
) -> tuple[float, float]:  # fmt: skip
    """Fills the readings; the line's ends [Pa]."""
    begin, end = window
    raw = hold.trend(t[inside], p[inside], begin, end)
    stated = None if settings.pressure_uncertainty is None else settings.pressure_uncertainty / BAR
    for key, value in (
        ("start", raw.start), ("end", raw.end), ("minimum", p[inside].min()), ("maximum", p[inside].max()),
        ("record_minimum", p.min()), ("record_maximum", p.max()),
    ):  # fmt: skip
        made.put(key, float(value) / BAR, stated)
    made.put("elapsed", end - begin, 0.0)
    best = raw if level is None else hold.trend(t[inside], level[inside], begin, end)
    for key, one in (("decay", best), ("decay_raw", raw)):
        made.put(key, -one.slope * 3600 / BAR, 2 * one.error * 3600 / BAR)
    return best.start, best.end
