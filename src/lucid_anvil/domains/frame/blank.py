"""What frame, cell and grips give way by, measured with a stiff blank in place of a specimen, for the ledger.

Displacement over force of the rising branches, between a fifth and nine tenths of the greatest force: below it grips
still bite. What the blank itself gives way by is taken off where its stiffness is known.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Any

import numpy as np
from pydantic import Field, model_validator

from ...contracts.finding import Curve, Finding
from ...contracts.method import (
    Axis,
    BenchFacts,
    Calibrated,
    CourseItem,
    Facts,
    Got,
    Performance,
    Want,
)  # fmt: skip
from ...contracts.recording import Channel, Floats
from ...contracts.samples import Readings, known_roles, points, samples_in, share_of, together, unstated
from ...contracts.settings import Flag, quantity
from ...contracts.sketch import line
from ...core.errors import BadInput
from ...core.quantities import factor, same_kind
from .shared import FrameMethod, FrameSettings, length_in, sensed, thinned

PART = (0.2, 0.9)
"""Shares of the greatest force between which it is read"""
SCALE = 1e-9
"""m/N of 1 µm/kN"""
LET_GO = 0.02
"""Share of it at which a branch ends"""
KEYS = {
    "compliance": ("Give of frame and grips", "µm/kN"),
    "spread": ("Spread of it between the branches", "%"),
    "change": ("Change since it was measured before", "%"),
}


class BlankSettings(FrameSettings):
    """How hard the blank is loaded, and what is known of it."""

    top: Annotated[float, quantity("N")] = 10e3
    """Greatest force"""
    speed: Annotated[float, quantity("m/s")] = 1.5e-5
    """Of the crosshead"""
    times: int = Field(default=3, ge=2, le=20)
    pressed: Flag = False
    """Whether it is pressed between plates; off: it is pulled"""
    blank_stiffness: Annotated[float, quantity("N/m")] | None = None
    """Of the blank alone, between the grips: what it gives way by is taken off"""
    before: Annotated[float, quantity("m/N")] | None = None
    """What was measured the time before: what changed since then is told"""

    @model_validator(mode="after")
    def _sensible(self) -> BlankSettings:
        if min(self.top, self.speed) <= 0 or (self.blank_stiffness is not None and self.blank_stiffness <= 0):
            raise ValueError("top, speed and blank_stiffness must be above zero.")
        return self


class Blank(FrameMethod):
    """The method as the registry knows it."""

    name = "frame-compliance"
    title = "Compliance of a load frame"
    steady = True
    roles = ("force", "displacement")
    more = True
    kinds = ("length",)
    reads_only = False
    calibrates = True
    unit_is = "frame"
    knows = {"before": "frame"}
    about = "How far frame, cell and grips give way under load, with a stiff blank in place of a specimen"
    sketch = (line(lambda x: 0.1 + 0.75 * max(x - 0.15, 0) / 0.85, 0, 1),)
    usual = {"top": "10 kN", "speed": "1 mm/min"}
    walk_round = (
        {"key": "blank", "text": "Stiff blank in both grips, no specimen"},
        {"key": "travel", "text": "End stops set; nobody within reach"},
        {"key": "door", "text": "Guard door, emergency stop", "sense": "interlocks"},
    )
    told = ("branch",)
    Settings = BlankSettings
    readings = {k: f"{label} [{unit}]" for k, (label, unit) in KEYS.items()}
    curves = {"give": "Displacement [µm] over force [kN]"}
    views = (Axis("give", "Give", ("give", "line"), "Force, kN", "Displacement, µm"),)

    def evaluate(
        self, record: Mapping[str, Channel], settings: BlankSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        known_roles(settings.sensitivity, record, "sensitivity")
        rate, n = together(record, ("force", "displacement"))
        sign = -1.0 if settings.pressed else 1.0
        zero = next((m for m in marks if m.get("kind") == "zero"), {})
        force = sign * (samples_in(record, "force", "N", settings.sensitivity)[:n] - float(zero.get("force", 0.0)))
        way = sign * (length_in(record, "displacement", settings)[:n] - float(zero.get("displacement", 0.0)))
        made = Readings(KEYS, settings)
        branches = [_slope(force[a:b], way[a:b]) for a, b in _rising(force, rate, marks)]
        held = np.array([b for b in branches if b is not None])
        notes = unstated(settings.uncertainty, "force", "displacement")
        if held.size < 2:
            made.absent(list(KEYS), "there are no two branches on which the force rises")
            return Finding(self.name, made.all(), notes=tuple(notes))
        own = 1 / settings.blank_stiffness if settings.blank_stiffness else 0.0
        value = float(held.mean()) - own
        spread = float(held.std(ddof=1))
        if value <= 0:
            made.absent(list(KEYS), "the blank alone would give way by more: look at its stiffness")
            return Finding(self.name, made.all(), notes=tuple(notes))
        stated = share_of(settings.uncertainty, "force", "displacement") * float(held.mean())
        doubt = float(np.hypot(2 * spread / np.sqrt(held.size), stated))
        made.put("compliance", value / SCALE, doubt / SCALE)
        made.put("spread", 100 * spread / value, 0.0)
        if settings.before:
            made.put("change", 100 * (value / settings.before - 1), 100 * doubt / settings.before)
        else:
            made.absent(["change"], "nothing is known of it before")
        low, high = (100 * p for p in PART)
        notes.append(f"From {held.size} rising branches, {low:g} to {high:g} % of the greatest force.")
        if not own:
            notes.append("The blank's own give is not taken off: its stiffness is not stated.")
        return Finding(self.name, made.all(), _curves(force, way, float(held.mean())), notes=tuple(notes))

    def calibration(self, finding: Finding, unit: str) -> Calibrated | None:
        reading = finding.reading("compliance")
        if reading.value is None:
            raise BadInput(f"there is no compliance to enter ({reading.reason}).")
        if not same_kind(unit, "m/N"):
            raise BadInput(f"the ledger has this frame in {unit}: a compliance is in µm/kN; enter it as a load frame.")
        doubt = None if reading.uncertainty is None else 100 * reading.uncertainty / reading.value
        return Calibrated(reading.value * factor("µm/kN", unit), unit, doubt, at="frame, cell and grips")

    def from_ledger(self, known: Mapping[str, Calibrated]) -> dict[str, Any]:
        """A load cell that lost half of its sensitivity shows a frame twice as soft: held against the time before."""
        made = super().from_ledger(known)
        return {**made, "limits": {"change": {"low": "-10 %", "high": "10 %"}}} if made else made

    # --- running ---------------------------------------------------------------------------------------------

    def course(self, settings: BlankSettings) -> list[CourseItem]:
        # Frames give way by some 2e-8 m/N; a softer one takes longer.
        once = 2 * (settings.top * 3e-8 + 3e-4) / settings.speed
        return [CourseItem("Zero", 1.0), *(CourseItem(f"Up and down, {i}", once) for i in range(1, settings.times + 1))]

    def feasible(self, settings: BlankSettings, facts: Facts) -> None:
        if "frame_speed" not in facts.limits:
            raise BadInput("the rig describes no load frame: give its `frame` speed, force and travel.")
        if settings.top > 0.9 * facts.limits["frame_force"]:
            raise BadInput(f"top: {settings.top:g} N is more than nine tenths of what the frame bears.")
        if settings.speed > 0.98 * facts.source_range * abs(facts.limits["frame_speed"]):
            raise BadInput("speed: the crosshead is not that fast.")

    def perform(
        self, settings: BlankSettings, facts: Facts, start: Mapping[str, Any] | None = None
    ) -> Performance:
        return _perform(settings, facts)

    def fill(self, given: dict[str, Any], bench: BenchFacts) -> dict[str, Any]:
        return sensed(super().fill(given, bench), bench)


METHOD = Blank()


def _rising(force: Floats, rate: float, marks: Sequence[Mapping[str, Any]]) -> list[tuple[int, int]]:
    """Samples of each branch: as the run marked them, else from where the force leaves nought to where it turns."""
    own = [(round(m["start"] * rate), round(m["t"] * rate)) for m in marks if m.get("kind") == "branch"]
    if own:
        return own
    top = float(force.max())
    low, high = force < LET_GO * top, force > PART[1] * top
    made, begun = [], 0
    for i in np.flatnonzero(np.diff(high.astype(int)) == 1):
        before = np.flatnonzero(low[: i + 1])
        begun = int(before[-1]) if before.size else 0
        made.append((begun, int(i) + 1 + int(np.argmax(force[i + 1 : i + 1 + round(rate)]))))
    return made


def _slope(force: Floats, way: Floats) -> float | None:
    """m/N of one branch; None where it holds too little."""
    if force.size < 8 or force.max() <= 0:
        return None
    there = (force > PART[0] * force.max()) & (force < PART[1] * force.max())
    there[int(np.argmax(force)) + 1 :] = False
    return float(np.polyfit(force[there], way[there], 1)[0]) if there.sum() > 8 else None


def _curves(force: Floats, way: Floats, slope: float) -> tuple[Curve, ...]:
    top = float(force.max())
    # One branch, each sample where it bears more than ever before: a curve rises along its axis.
    first = int(np.argmax(force > PART[1] * top))
    low = np.flatnonzero(force[: first + 1] < LET_GO * top)
    begun = int(low[-1]) if low.size else 0
    up, along = force[begun : first + 1], way[begun : first + 1]
    higher = np.flatnonzero(np.diff(np.maximum.accumulate(up), prepend=-np.inf) > 0)
    keep = higher[thinned(higher.size)]
    at = float(np.median((way - slope * force)[force > 0.5 * top]))
    x = np.array([0.0, top])
    return (
        Curve("give", "Displacement", points(up[keep] / 1e3), points(1e6 * along[keep]), "kN", "µm"),
        Curve("line", "Line", points(x / 1e3), points(1e6 * (at + slope * x)), "kN", "µm"),
    )


def _perform(settings: BlankSettings, facts: Facts) -> Performance:
    """Zero, then up to the force and down again so many times; rest is no command."""
    block, rest = facts.block, np.zeros(facts.block)
    sign = -1.0 if settings.pressed else 1.0
    sums: dict[str, list[float]] = {"force": [], "displacement": []}
    got: Got = yield Want(rest)
    first = got.start
    while got.start - first < 1.0:
        for role, held in sums.items():
            held.append(float(np.mean(got.channels[role])) / facts.sensitivity[role])
        got = yield Want(rest, live={"item": 0, "at": got.start - first, "of": 1.0})
    zero = {role: float(np.mean(held)) for role, held in sums.items()}
    marks: tuple[Mapping[str, Any], ...] = ({"kind": "zero", "t": got.start, **zero},)
    span = block / facts.rate
    volts = sign * settings.speed / facts.limits["frame_speed"]
    for number in range(1, settings.times + 1):
        begun, up = got.start, True
        ends = begun + 20 * (settings.top * 3e-8 + 3e-3) / settings.speed
        while True:
            force = sign * (float(np.mean(got.channels["force"][-8:])) / facts.sensitivity["force"] - zero["force"])
            if up and force >= settings.top:
                up = False
                marks = (*marks, {"kind": "branch", "t": got.start + span, "start": begun, "number": number})
            elif not up and force <= LET_GO * settings.top:
                break
            if got.start > ends or any(o.get("order") == "skip" for o in got.orders):
                why = "operator" if got.start <= ends else "no load"
                yield Want(rest, marks=(*marks, {"kind": "blank ended", "t": got.start, "why": why}))
                return
            way = sign * (float(got.channels["displacement"][-1]) / facts.sensitivity["displacement"]
                          - zero["displacement"])  # fmt: skip
            live = {"item": number, "at": 0.0 if up else 1.0, "of": 2.0,
                    "shown": {"Force": f"{force / 1e3:.3f} kN", "Displacement": f"{1e6 * way:.0f} µm"}}  # fmt: skip
            got = yield Want(np.full(block, volts if up else -volts), marks=marks, live=live)
            marks = ()
    yield Want(rest, marks=(*marks, {"kind": "blank ended", "t": got.start, "why": "done"}))
    for _ in range(4):
        yield Want(rest)
