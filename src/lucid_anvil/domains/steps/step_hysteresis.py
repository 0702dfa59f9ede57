"""Hysteresis of anything that is driven up and down in steps (terms of IEC 61298-2)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Any

import numpy as np
from pydantic import Field, model_validator

from ...contracts.finding import Curve, Finding
from ...contracts.method import Axis, BenchFacts, CourseItem, Facts, Performance, record_of
from ...contracts.recording import Channel, Floats
from ...contracts.samples import Readings, by_steps, channel_by_steps, listed, points, together
from ...contracts.settings import Model, quantity
from ...contracts.sketch import line
from ...core.errors import BadInput
from ...core.quantities import parse, split
from ...core.steps import hysteresis
from .shared import Step, StepsMethod, StepsSettings, Stretch, marks_as_steps, mean_of

KEYS = {
    "hysteresis": ("Hysteresis", "%"),
    "nonlinearity": ("Nonlinearity", "%"),
    "span": ("Span of the response", ""),
    "zero_return": ("Return to the start", ""),
}


class StepCourse(Model):
    """How the source is taken up and down where a bench drives; a record that is there knows nothing of it."""

    model_config = {**Model.model_config, "populate_by_name": True}
    low: Annotated[float, quantity("V")] = Field(0.0, alias="from")
    high: Annotated[float, quantity("V")] = Field(1.0, alias="to")
    steps: int = Field(default=11, ge=3, le=1001)
    """From one end to the other, both counted"""
    loops: int = Field(default=1, ge=1, le=1000)
    settle: Annotated[float, quantity("s")] = 2.0
    """At most, before a step is read"""
    steady: float | None = None
    """The response's change in a second, in its unit, below which it counts as settled before that time"""
    read: Annotated[float, quantity("s")] = 0.5
    ramp: Annotated[float, quantity("V/s")] = 2.0
    """From step to step"""

    @model_validator(mode="after")
    def _sensible(self) -> StepCourse:
        if self.low >= self.high:
            raise ValueError("from must lie below to.")
        if min(self.settle, self.read, self.ramp) <= 0 or (self.steady is not None and self.steady <= 0):
            raise ValueError("settle, steady, read and ramp must be above zero.")
        return self


class HysteresisSettings(StepsSettings):
    """Where each step has settled."""

    steps: list[Stretch] = Field(default_factory=list)
    """{start, stop}; plateaus of the drive are found when missing"""
    course: StepCourse = Field(default_factory=lambda: StepCourse.model_validate({}))


class StepHysteresis(StepsMethod):
    """The method as the registry knows it."""

    name = "step-hysteresis"
    title = "Steps up and down"
    roles = ("drive", "response")
    reads_only = False
    at_rest = True
    about = "How much the way up differs from the way down, driven in steps or from a record"
    sketch = (line(lambda x: 0.1 + 0.8 * x**1.5), line(lambda x: 0.1 + 0.8 * x**0.7))
    usual = {"course": {"from": "0 V", "to": "1 V", "steps": 11}}
    walk_round = ({"key": "free", "text": "What is driven is free to move"},)
    told = ("step",)
    Settings = HysteresisSettings
    readings = {**listed(KEYS), "span": "Span of the response [its unit]", "zero_return": "End less start [its unit]"}
    curves = {
        "up": "Response, rising, over drive", "down": "Response, falling, at the rising branch's drives",
        "mean": "Mean of both", "difference": "Falling less rising",
    }  # fmt: skip
    views = (
        Axis("loop", "Loop", ("up", "down", "mean"), "", ""),
        Axis("difference", "Difference", ("difference",), "", ""),
    )

    def evaluate(
        self, record: Mapping[str, Channel], settings: HysteresisSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        held = record_of(record, settings)
        rate, n = together(held, ("drive", "response"))
        (drive, of), (response, own) = (_plain(held[r], settings.sensitivity.get(r), r) for r in ("drive", "response"))
        drive, response = drive[:n], response[:n]
        steps = settings.steps or marks_as_steps(marks, Stretch)
        found = not steps
        if found:
            places = hysteresis.plateaus(drive)
        else:
            places = []
            for i, s in enumerate(steps, start=1):
                a, b = int(round(s.start * rate)), int(round(s.stop * rate))
                if b > n + 1.5:
                    raise BadInput(f"steps, {i}: the record ends at {n / rate:g} s, before {s.stop:g} s.")
                if b <= a or (places and a < places[-1][1] - 1):
                    raise BadInput(f"steps, {i}: steps follow one another in time, none overlapping.")
                places.append((a, min(b, n)))
        keys = {**KEYS, "span": (KEYS["span"][0], own), "zero_return": (KEYS["zero_return"][0], own)}
        made = Readings(keys, settings)
        if len(places) < 2:
            why = "fewer than two steps were found" if found else "there are fewer than two steps"
            made.absent(list(keys), why)
            return Finding(self.name, made.all(), notes=(why,))
        curves = _read(made, drive, response, places, of, own)
        notes = [f"{len(places)} steps {'found' if found else 'given'}."]
        notes.append("The doubt is of the record's scatter alone, not of the instruments.")
        return Finding(self.name, made.all(), curves, notes=tuple(notes))

    # --- running ---------------------------------------------------------------------------------------------

    def course(self, settings: HysteresisSettings) -> list[CourseItem]:
        from .hysteresis_run import levels

        c = settings.course
        count = len(levels(settings))
        ramps = 2 * c.loops * (c.high - c.low) / c.ramp
        return [CourseItem(f"{count} steps, {c.low:g} V to {c.high:g} V", count * (c.settle + c.read) + ramps)]

    def perform(
        self, settings: HysteresisSettings, facts: Facts, start: Mapping[str, Any] | None = None
    ) -> Performance:
        from .hysteresis_run import perform

        return perform(settings, facts)

    def fill(self, given: dict[str, Any], bench: BenchFacts) -> dict[str, Any]:
        made = super().fill(given, bench)
        kind = bench.kinds.get("response", "")
        if kind in ("acceleration", "tach"):
            raise BadInput("a drive that stands still shows no acceleration: this bench can't be taken up in steps.")
        unit = {"force": "N", "pressure": "Pa", "length": "m"}.get(kind)
        if unit is not None and "response" in bench.sensitivity:
            known = {"response": by_steps(bench, "response") or f"{bench.sensitivity['response']!r} V/({unit})"}
            made["sensitivity"] = {**known, **made.get("sensitivity", {})}
        return made


METHOD = StepHysteresis()


def _plain(channel: Channel, sensitivity: Any, role: str) -> tuple[Floats, str]:
    """Samples and their unit: the record's own, or what a sensitivity like '0.5 V/mm' makes of volts."""
    if sensitivity is None:
        return channel.samples(), channel.unit
    if isinstance(sensitivity, Mapping):
        return channel_by_steps(channel, sensitivity, f"sensitivity.{role}")
    _, whole = split(str(sensitivity))
    _, slash, unit = whole.partition("/")
    unit = unit.strip("() ")
    if not slash or not unit:
        raise BadInput(f"sensitivity.{role}: '{sensitivity}' names no unit: write it like '0.5 V/mm'.")
    by = parse(sensitivity, f"({channel.unit or 'V'})/({unit})", f"sensitivity.{role}")
    if by <= 0:
        raise BadInput(f"sensitivity.{role}: it must be above zero.")
    return channel.samples() / by, unit


def _read(
    made: Readings, drive: Floats, response: Floats, places: list[tuple[int, int]], of: str, own: str
) -> tuple[Curve, ...]:
    steps = [Step(1, 0.0, True, "", a, b, 0.0) for a, b in places]
    d = np.array([mean_of(drive, s)[0] for s in steps])
    r, e = (np.array(v) for v in zip(*(mean_of(response, s) for s in steps), strict=True))
    span = float(r.max() - r.min())
    error = float(np.sqrt(np.mean(e**2)))
    if float(np.ptp(d)) <= 0 or span <= 0:
        made.absent(("hysteresis", "nonlinearity", "zero_return"), "drive or response does not move")
        made.put("span", span, 2 * np.sqrt(2) * error)
        return ()
    held = hysteresis.branches(d, r)
    double = 2 * np.sqrt(2) * error
    relative = 100 * double / span
    mean = held.up if held.down is None else np.where(np.isfinite(held.down), (held.up + held.down) / 2, held.up)
    if held.down is None or held.falling is None:
        made.put("hysteresis", None, why="the drive goes one way only")
        made.put("zero_return", None, why="the drive goes one way only")
    else:
        made.put("hysteresis", 100 * float(np.nanmax(np.abs(held.down - held.up))) / span, relative)
        made.put("zero_return", float(r[-1] - r[0]), double)
    made.put("span", span, double)
    x = held.drive
    if x.size >= 3:
        line = mean[0] + (mean[-1] - mean[0]) * (x - x[0]) / (x[-1] - x[0])
        made.put("nonlinearity", 100 * float(np.max(np.abs(mean - line))) / span, relative)
    else:
        made.put("nonlinearity", None, why="there are fewer than three steps")
    at = points(x)
    curves = [Curve("up", "Rising", at, points(held.up), of, own)]
    if held.down is not None:
        curves += [
            Curve("down", "Falling", at, points(held.down), of, own),
            Curve("difference", "Falling less rising", at, points(held.down - held.up), of, own),
        ]
    curves.append(Curve("mean", "Mean", at, points(mean), of, own))
    return tuple(curves)
