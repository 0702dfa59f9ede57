"""Calibration of a pressure transmitter against a reference, rising and falling (EURAMET cg-17, IEC 61298-2)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Any

import numpy as np
from pydantic import Field, model_validator

from ...contracts.finding import Curve, Finding
from ...contracts.method import Axis, record_of
from ...contracts.recording import Channel
from ...contracts.samples import Readings, points, samples_in, together
from ...contracts.settings import Model, quantity
from ...core.errors import BadInput
from ...core.quantities import STANDARD_GRAVITY, parse
from .shared import SeriesStep, Step, StepsMethod, StepsSettings, marks_as_steps, mean_of, ordered

KEYS = {
    "zero_error": ("Error at the low end", "%"),
    "span_error": ("Error of the span", "%"),
    "nonlinearity": ("Nonlinearity", "%"),
    "hysteresis": ("Hysteresis", "%"),
    "repeatability": ("Repeatability", "%"),
    "accuracy": ("Largest error", "%"),
}


class Span(Model):
    """Pressures at both ends."""

    low: Annotated[float, quantity("Pa")]
    high: Annotated[float, quantity("Pa")]

    @model_validator(mode="after")
    def _ordered(self) -> Span:
        if self.low >= self.high:
            raise ValueError("low must be below high.")
        return self


class Output(Model):
    """What the unit shall give at both ends, in its channel's unit."""

    low: Any
    high: Any


class Head(Model):
    """The column between the reference's level and the unit's."""

    height: Annotated[float, quantity("m")]
    """Of the reference's level above the unit's"""
    density: Annotated[float, quantity("kg/m^3")]
    gravity: Annotated[float, quantity("m/s^2")] = STANDARD_GRAVITY


class PressureSettings(StepsSettings):
    """The steps, the nominal line, the reference."""

    steps: list[SeriesStep] = Field(default_factory=list)
    """{series, nominal, direction, start, stop}"""
    span: Span
    output: Output
    reference_sensitivity: Any = None
    """Of a reference that is recorded in volts, like '10 mV/kPa'"""
    reference_uncertainty: Annotated[float, quantity("%")] | None = None
    """Of the reference's reading, expanded (k = 2)"""
    head: Head | None = None
    """{height, density, gravity}"""


class PressureComparison(StepsMethod):
    """The method as the registry knows it."""

    name = "pressure-comparison"
    title = "Pressure comparison"
    roles = ("reference", "unit")
    about = "How far a pressure transmitter is from its nominal line, rising and falling"
    Settings = PressureSettings
    readings = {k: f"{label} [% of output span]" for k, (label, _) in KEYS.items()}
    curves = {
        "error_up": "Mean error, rising [% of output span] over Pa",
        "error_down": "Mean error, falling [% of output span] over Pa",
    }
    views = (Axis("error", "Error", ("error_up", "error_down"), "Pa", "% of span"),)

    def evaluate(
        self, record: Mapping[str, Channel], settings: PressureSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        held = record_of(record, settings)
        together(held, ("reference", "unit"))
        given = {**settings.sensitivity}
        if settings.reference_sensitivity is not None:
            given["reference"] = settings.reference_sensitivity
        x_ref = samples_in(held, "reference", "Pa", given)
        unit = held["unit"]
        if not unit.unit:
            raise BadInput("the unit channel states no unit: name it like 'unit [mA]'.")
        low, high = (parse(getattr(settings.output, k), unit.unit, f"output.{k}") for k in ("low", "high"))
        if low == high:
            raise BadInput("output: low and high must differ.")
        steps = ordered(settings.steps or marks_as_steps(marks, SeriesStep), "Pa", held["reference"])
        head = settings.head
        more = 0.0 if head is None else head.density * head.gravity * head.height
        x_unit = unit.samples()
        errors: list[tuple[Step, float, float]] = []
        scatter = []
        for s in steps:
            (r, er), (u, eu) = mean_of(x_ref, s), mean_of(x_unit, s)
            pressure = r + more
            line = low + (high - low) * (pressure - settings.span.low) / (settings.span.high - settings.span.low)
            errors.append((s, pressure, 100 * (u - line) / (high - low)))
            scatter.append(100 * np.hypot(eu / (high - low), er / (settings.span.high - settings.span.low)))
        made = Readings(KEYS, settings)
        curves, notes = _read(made, errors, settings, float(np.median(scatter)))
        if head is not None:
            notes.append(f"The column adds {more:.6g} Pa to the reference.")
        return Finding(self.name, made.all(), curves, notes=tuple(notes))


METHOD = PressureComparison()


def _read(
    made: Readings, errors: list[tuple[Step, float, float]], settings: PressureSettings, scatter: float
) -> tuple[tuple[Curve, ...], list[str]]:
    span = settings.span.high - settings.span.low
    stated = settings.reference_uncertainty
    notes = [] if stated is not None else ["No reference_uncertainty is given: the doubt is of the record alone."]

    def doubt(pressure: float) -> float:
        return float(np.hypot(2 * scatter, (stated or 0.0) * abs(pressure) / span))

    # Where pressure stands only the nominal tells which step is which.
    nominals = sorted({s.nominal for s, _, _ in errors})
    up, down = ({f: [e for s, _, e in errors if s.nominal == f and s.rising is way] for f in nominals}
                for way in (True, False))  # fmt: skip
    at = {f: float(np.mean([p for s, p, _ in errors if s.nominal == f])) for f in nominals}

    def end(pressure: float) -> float | None:
        near = [e for s, _, e in errors if abs(s.nominal - pressure) <= 1e-6 * span]
        return float(np.mean(near)) if near else None

    bottom, top = end(settings.span.low), end(settings.span.high)
    made.put("zero_error", bottom, doubt(settings.span.low), "there is no step at the low end of the span")
    made.put("span_error", None if bottom is None or top is None else top - bottom, doubt(settings.span.high),
             "there is no step at each end of the span")  # fmt: skip
    both = [f for f in nominals if up[f] and down[f]]
    falls = any(down[f] for f in nominals)
    twice = [abs(float(np.mean(down[f]) - np.mean(up[f]))) for f in both]
    made.put("hysteresis", max(twice) if twice else None, 2 * scatter * np.sqrt(2), "nothing falls" if not falls else
             "no step is there in both directions")  # fmt: skip
    middle = {
        f: float((np.mean(up[f]) + np.mean(down[f])) / 2) if up[f] and down[f] else float(np.mean(up[f] or down[f]))
        for f in nominals if up[f] or down[f]
    }  # fmt: skip
    places = np.array([at[f] for f in middle])
    values = np.array(list(middle.values()))
    if places.size >= 3 and places[-1] > places[0]:
        line = values[0] + (values[-1] - values[0]) * (places - places[0]) / (places[-1] - places[0])
        made.put("nonlinearity", float(np.max(np.abs(values - line))), 2 * scatter * np.sqrt(2))
    else:
        made.put("nonlinearity", None, why="there are fewer than three steps")
    several = [max(v) - min(v) for way in (up, down) for v in way.values() if len(v) > 1]
    one = len({s.series for s, _, _ in errors}) < 2
    made.put("repeatability", max(several) if several and not one else None, 2 * scatter * np.sqrt(2),
             "there is but one series")  # fmt: skip
    worst = max(errors, key=lambda e: abs(e[2]))
    made.put("accuracy", abs(worst[2]), doubt(worst[1]))
    curves = []
    for key, label, way in (("error_up", "Error, rising", up), ("error_down", "Error, falling", down)):
        held = [f for f in nominals if way[f]]
        if held:
            curves.append(Curve(key, label, points(held), points([np.mean(way[f]) for f in held]), "Pa", "%",
                                points([doubt(f) for f in held]), 2.0))  # fmt: skip
    return tuple(curves), notes
