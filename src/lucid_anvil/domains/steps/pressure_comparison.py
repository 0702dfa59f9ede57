"""Calibration of a pressure transmitter against a reference, rising and falling (EURAMET cg-17, IEC 61298-2)."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Annotated, Any

import numpy as np
from pydantic import Field, model_validator

from ...contracts.finding import Curve, Finding
from ...contracts.method import Axis, BenchFacts, Calibrated, CourseItem, Facts, Performance, record_of
from ...contracts.recording import Channel
from ...contracts.samples import Readings, points, samples_in, together
from ...contracts.settings import Model, quantity
from ...contracts.sketch import level, line
from ...core.errors import BadInput
from ...core.quantities import STANDARD_GRAVITY, parse
from .comparison_course import PressureCourse, Stage, duration, pressure_stages
from .shared import (
    ComparisonMethod,
    SeriesStep,
    Step,
    StepsSettings,
    marks_as_steps,
    mean_of,
    ordered,
    reference_at,
    with_reference,
)
from .weights import as_reference, read_apart, said_of

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
    course: PressureCourse = Field(default_factory=PressureCourse)


class PressureComparison(ComparisonMethod):
    """The method as the registry knows it."""

    name = "pressure-comparison"
    title = "Pressure comparison"
    roles = ("reference", "unit")
    about = "How far a pressure transmitter is from its nominal line, rising and falling"
    sketch = (line(lambda x: 0.5 + 0.25 * math.sin(3.1 * x)),
              line(lambda x: 0.5 + 0.12 * math.sin(3.1 * x)), level(0.5))
    reads_only = False
    at_rest = True
    standard = "Comparison, EURAMET cg-17"
    calibrates = True
    idle = "nothing is run: give the highest step ('course: top')"
    usual = {"span": {"low": "0 bar", "high": "10 bar"}, "output": {"low": "0 V", "high": "10 V"},
             "course": {"top": "10 bar"}}  # fmt: skip
    walk_round = (
        {"key": "level", "text": "Reference and unit stand at one level, or their heights are given"},
        {"key": "tight", "text": "The line is bled and tight"},
    )
    told = ("step",)
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
        laid = settings.course.unrecorded and "reference" not in held
        _, n = together(held, ("unit",) if laid else ("reference", "unit"))
        given = {**settings.sensitivity}
        if settings.reference_sensitivity is not None:
            given["reference"] = settings.reference_sensitivity
        unit = held["unit"]
        if not unit.unit:
            raise BadInput("the unit channel states no unit: name it like 'unit [mA]'.")
        low, high = (parse(getattr(settings.output, k), unit.unit, f"output.{k}") for k in ("low", "high"))
        if low == high:
            raise BadInput("output: low and high must differ.")
        steps = ordered(settings.steps or marks_as_steps(marks, SeriesStep), "Pa", held["unit"])
        typed = read_apart(steps, settings.course.gauge) if laid and settings.course.weights is None else ""
        x_ref = as_reference(steps, n) if laid else samples_in(held, "reference", "Pa", given)
        head = settings.head
        more = 0.0 if head is None else head.density * head.gravity * head.height
        x_unit = unit.samples()
        errors: list[tuple[Step, float, float]] = []
        scatter = []
        for s in steps:
            (r, er), (u, eu) = reference_at(x_ref, s), mean_of(x_unit, s)
            pressure = r + more
            line = low + (high - low) * (pressure - settings.span.low) / (settings.span.high - settings.span.low)
            errors.append((s, pressure, 100 * (u - line) / (high - low)))
            scatter.append(100 * np.hypot(eu / (high - low), er / (settings.span.high - settings.span.low)))
        made = Readings(KEYS, settings)
        curves, notes = _read(made, errors, settings, float(np.median(scatter)))
        if laid and settings.course.weights is not None:
            notes.append(said_of(settings.course.weights))
        elif laid:
            notes.append(typed)
        if head is not None:
            notes.append(f"The column adds {more:.6g} Pa to the reference.")
        detail = {"line": _slope(errors, settings, low, high), "unit": unit.unit, "table": _table(errors, unit.unit),
                  "steps": _outputs(errors, settings, low, high)}  # fmt: skip
        return Finding(self.name, made.all(), curves, notes=tuple(notes), detail=detail)

    # --- running ---------------------------------------------------------------------------------------------

    def course(self, settings: PressureSettings) -> list[CourseItem]:
        top = settings.course.highest("Pa")
        return [] if top is None else duration(settings.course, self._stages(settings, top), top)

    def perform(self, settings: PressureSettings, facts: Facts, start: Mapping[str, Any] | None = None) -> Performance:
        from .comparison_run import perform

        top = settings.course.highest("Pa")
        if top is None:
            raise BadInput(self.idle)
        return perform(settings.course, self._stages(settings, top), top, "Pa", facts,
                       lambda steps: _so_far(steps, settings))  # fmt: skip

    def _stages(self, settings: PressureSettings, top: float) -> list[Stage]:
        return pressure_stages(settings.course, max(settings.span.low, 0.0), top)

    def fill(self, given: dict[str, Any], bench: BenchFacts) -> dict[str, Any]:
        return with_reference(super().fill(given, bench), bench, "pressure", "Pa")

    def calibration(self, finding: Finding, unit: str) -> Calibrated:
        return _calibrated(finding, unit)


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


def _slope(
    errors: list[tuple[Step, float, float]], settings: PressureSettings, low: float, high: float
) -> dict[str, float]:
    """The straight line through all readings by least squares: the unit's output per Pa, at no pressure, and the
    standard error of the slope in % with the scatter about it."""
    p = np.array([at for _, at, _ in errors])
    span = settings.span.high - settings.span.low
    line = low + (high - low) * (p - settings.span.low) / span
    y = line + np.array([e for *_, e in errors]) / 100 * (high - low)
    if p.size < 3 or np.ptp(p) == 0:
        return {}
    x = p - p.mean()
    slope = float(x @ y / (x @ x))
    if slope == 0 or not np.isfinite(slope):
        return {}
    left = y - y.mean() - slope * x
    error = float(np.sqrt(left @ left / (p.size - 2) / (x @ x)))
    return {"slope": slope, "at_rest": float(y.mean() - slope * p.mean()), "error": 100 * error / abs(slope)}


def _outputs(
    errors: list[tuple[Step, float, float]], settings: PressureSettings, low: float, high: float
) -> list[list[float]]:
    """Rows of pressure [Pa] and what the unit gave there more than without pressure, means over series and directions;
    none where there is no step without pressure."""
    span = settings.span.high - settings.span.low
    held: dict[float, list[tuple[float, float]]] = {}
    for s, p, e in errors:
        line = low + (high - low) * (p - settings.span.low) / span
        held.setdefault(s.nominal, []).append((p, line + e / 100 * (high - low)))
    at = {nominal: np.mean(np.array(rows), axis=0) for nominal, rows in held.items()}
    rest = at.pop(0.0, None)
    if rest is None:
        return []
    return [[float(p - rest[0]), float(out - rest[1])] for _, (p, out) in sorted(at.items())]


def _table(errors: list[tuple[Step, float, float]], unit: str) -> dict[str, Any]:
    """A row a step and direction, means over the series."""
    keys = list(dict.fromkeys((s.nominal, s.rising) for s, _, _ in errors))
    rows = []
    for nominal, rising in sorted(keys, key=lambda k: (not k[1], k[0] if k[1] else -k[0])):
        own = [(p, e) for s, p, e in errors if (s.nominal, s.rising) == (nominal, rising)]
        rows.append([float(np.mean([p for p, _ in own])) / 1e5, "rising" if rising else "falling",
                     float(np.mean([e for _, e in own]))])  # fmt: skip
    return {"heads": ["Pressure, bar", "Direction", "Error, % of span"], "rows": rows}


def _calibrated(finding: Finding, unit: str) -> Calibrated:
    """What a ledger keeps: the slope of the straight line. Raises BadInput."""
    held = (finding.detail or {}).get("line") or {}
    if not held:
        raise BadInput("the unit's slope was not measured: fewer than three steps were read.")
    own = str((finding.detail or {})["unit"])
    by = parse(f"1 {own}/Pa", unit, "sensitivity")
    u = finding.reading("accuracy").uncertainty
    doubt = None if u is None else float(np.hypot(u, 2 * held["error"]))
    steps = (finding.detail or {}).get("steps") or []
    rows = None
    if doubt is not None and steps and all(p > 0 and out * held["slope"] > 0 for p, out in steps):
        rows = [[p, out / p * by, doubt] for p, out in steps]
    return Calibrated(held["slope"] * by, unit, doubt, rows, "slope of the straight line")


def _so_far(steps: list[dict[str, Any]], settings: PressureSettings) -> dict[str, Any]:
    """Errors of the steps read so far."""
    low, high = (parse(getattr(settings.output, k), "V", f"output.{k}") for k in ("low", "high"))
    head = settings.head
    more = 0.0 if head is None else head.density * head.gravity * head.height
    curves: dict[str, list[list[float]]] = {}
    for s in steps:
        pressure = s["reference"] + more
        line = low + (high - low) * (pressure - settings.span.low) / (settings.span.high - settings.span.low)
        name = f"series {s['series']}{'' if s['direction'] == 'up' else ' falling'}"
        x, y = curves.setdefault(name, [[], []])
        x.append(s["nominal"])
        y.append(100 * (s["unit"] - line) / (high - low))
    if not curves:
        return {}
    worst = max((e for _, ys in curves.values() for e in ys), key=abs)
    return {"curves": {"error": curves}, "shown": {"Largest error": f"{worst:+.2f} % of span".replace("-", "−")}}
