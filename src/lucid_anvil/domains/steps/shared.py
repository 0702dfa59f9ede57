"""What the methods of this domain share: settings, steps in their order, means of stretches."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, model_validator

from ...contracts.method import BenchFacts, Input, Method, MethodSettings
from ...contracts.recording import Channel, Floats
from ...contracts.samples import by_steps
from ...contracts.settings import Model, quantity
from ...core.errors import BadInput
from ...core.quantities import parse


class Stretch(Model):
    """A piece of the record, waiting left out."""

    start: Annotated[float, quantity("s")]
    stop: Annotated[float, quantity("s")]

    @model_validator(mode="after")
    def _ordered(self) -> Stretch:
        if not 0 <= self.start < self.stop:
            raise ValueError("stop must come after start.")
        return self


class SeriesStep(Stretch):
    """One step of a series."""

    series: int = 1
    nominal: Any
    """0 is a zero step"""
    direction: Literal["up", "down"] = "up"
    reference: Any = None
    """What the reference showed, where a person read it, or its own line did"""
    reference_scatter: Any = None
    """Standard error of that, where it was read more than once"""


class StepsSettings(MethodSettings):
    """What all of them know of their channels."""

    sensitivity: dict[str, Any] = Field(default_factory=dict)
    """By role, of channels that are recorded in volts, like '2 mV/kN'"""


class StepsMethod(Method):
    """Records of steps: what rests or goes slowly is no fault there."""

    reads_only = True


class ComparisonMethod(StepsMethod):
    """A unit against a reference, step by step, in a `course` of its settings."""

    gauged = True

    def needs(self, settings: Any) -> tuple[str, ...]:
        return ("unit",) if settings.course.unrecorded else self.roles

    def guarded(self, settings: Any, inputs: Sequence[Input]) -> dict[str, Any]:
        """A load that is steered by a gauge is taken off when the gauge falls silent."""
        made = super().guarded(settings, inputs)
        if not settings.course.gauge:
            return made
        return {**made, "guards": [*made.get("guards", []), {"watch": "instrument", "action": "ease"}]}


@dataclass(frozen=True)
class Step:
    """A step with its place in the record, as numbers."""

    series: int
    nominal: float
    rising: bool
    position: str
    a: int
    b: int
    start: float
    reference: float | None = None
    """As it was read apart; None where it was recorded, or is the nominal"""
    scatter: float = 0.0
    """Standard error of that"""

    @property
    def where(self) -> str:
        return f"series {self.series}, {self.nominal:g}, {'up' if self.rising else 'down'}"


def ordered(steps: Sequence[Any], unit: str, channel: Channel) -> list[Step]:
    """Steps as numbers, checked: inside the record, none overlapping, nominals rising while up and falling while down
    in each series. Raises BadInput."""
    if not steps:
        raise BadInput("steps: there is none: give series, nominal, direction, start and stop of each.")
    made = []
    for i, s in enumerate(steps, start=1):
        nominal = parse(s.nominal, unit, f"steps, {i}: nominal")
        a, b = int(round(s.start * channel.rate)), int(round(s.stop * channel.rate))
        if b > channel.length + 1.5:
            raise BadInput(f"steps, {i}: the record ends at {channel.duration:g} s, before {s.stop:g} s.")
        if b <= a:
            raise BadInput(f"steps, {i}: it holds no sample of a record at {channel.rate:g} Hz: make it longer.")
        shown = getattr(s, "reference", None)
        shown = None if shown is None else parse(shown, unit, f"steps, {i}: reference")
        scatter = getattr(s, "reference_scatter", None)
        scatter = 0.0 if scatter is None else parse(scatter, unit, f"steps, {i}: reference_scatter")
        made.append(Step(s.series, nominal, s.direction == "up", str(getattr(s, "position", "")).strip(), a,
                         min(b, channel.length), s.start, shown, scatter))  # fmt: skip
    by_time = sorted(range(len(made)), key=lambda i: made[i].a)
    for i, j in zip(by_time, by_time[1:], strict=False):
        if steps[j].start < steps[i].stop - 1e-9:
            raise BadInput(f"steps, {j + 1}: it begins before step {i + 1} ends: they overlap.")
    if by_time != list(range(len(made))):
        late = next(i for i, j in enumerate(by_time) if i != j)
        raise BadInput(f"steps, {late + 1}: steps follow one another in time: this one is out of its order.")
    # Force in compression may be written below zero: it grows all the same.
    sign = -1.0 if unit == "N" and all(s.nominal <= 0 for s in made) else 1.0
    for series in dict.fromkeys(s.series for s in made):
        own = [s for s in made if s.series == series]
        for before, after in zip(own, own[1:], strict=False):
            if after.rising and not before.rising:
                if after.nominal != 0 or before.nominal != 0:
                    raise BadInput(f"steps: {after.where}: a series rises, then falls; give this one another number.")
                continue
            turned = before.rising and not after.rising
            less, more = (after.nominal * sign, before.nominal * sign) if not after.rising else (
                before.nominal * sign, after.nominal * sign)  # fmt: skip
            if less > more or (less == more and not turned):
                way = "rising while up" if after.rising else "falling while down"
                raise BadInput(f"steps: {after.where}: nominals are {way}; this one follows {before.nominal:g}.")
    return made


def mean_of(x: Floats, step: Step) -> tuple[float, float]:
    """Mean of a step and its standard error, neighbours that go together counted as fewer."""
    part = x[step.a : step.b]
    mean = float(part.mean())
    if part.size < 4:
        return mean, float(part.std(ddof=1) / np.sqrt(part.size)) if part.size > 1 else 0.0
    off = part - mean
    power = float(off @ off)
    near = max(float(off[1:] @ off[:-1]) / power, 0.0) if power > 0 else 0.0
    fewer = min((1 + near) / max(1 - near, 1e-3), part.size)
    return mean, float(np.sqrt(power / (part.size - 1) / part.size * fewer))


def reference_at(x: Floats, step: Step) -> tuple[float, float]:
    """What the reference showed at a step, and its standard error."""
    mean, error = mean_of(x, step)
    return mean, float(np.hypot(error, step.scatter))


def with_reference(given: dict[str, Any], bench: BenchFacts, kind: str, unit: str) -> dict[str, Any]:
    """Settings with the reference's sensitivity from the bench, where its channel measures that kind. Raises BadInput
    for one that measures something else."""
    if bench.gauge:
        course = dict(given.get("course") or {})
        if not course.get("typed") and not course.get("weights"):
            given["course"] = {"gauge": True, **course}
    found = bench.kinds.get("reference", bench.gauge or kind)
    if found != kind:
        raise BadInput(f"the reference measures {found}: this method compares {kind}.")
    if "reference" in bench.sensitivity and given.get("reference_sensitivity") is None:
        known = {"reference": by_steps(bench, "reference") or f"{bench.sensitivity['reference']!r} V/({unit})"}
        given["sensitivity"] = {**known, **given.get("sensitivity", {})}
    return given


def marks_as_steps(marks: Sequence[Mapping[str, Any]], model: type[Any]) -> list[Any]:
    """The steps that a take's own marks of kind `step` hold."""
    keys = set(model.model_fields)
    return [
        model.model_validate({k: v for k, v in m.items() if k in keys})
        for m in marks
        if m.get("kind") == "step" and "stop" in m
    ]
