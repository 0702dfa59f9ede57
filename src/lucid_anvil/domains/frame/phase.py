"""The phase that a frame's own sensors, filters and inertia put between force and length, on a steel blank.

A thin blank of steel has next to no loss (tan delta of some 2e-4): what force and length differ by in phase on it
is the instrument's own, and is taken off what a specimen shows (ISO 6721-4 and -5 ask for it).
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Annotated, Any

import numpy as np
from pydantic import Field, model_validator

from ...contracts.finding import Curve, Finding
from ...contracts.method import Axis, BenchFacts, Calibrated, CourseItem, Facts, Performance
from ...contracts.recording import Channel
from ...contracts.samples import Readings, known_roles, points, samples_in, together
from ...contracts.settings import quantity
from ...contracts.sketch import line
from ...core.errors import BadInput
from ...core.frame import dynamic
from ...core.quantities import factor, same_kind
from .dma import pieces_of
from .dma_settings import DmaSettings, Geometry, Step
from .shared import FrameMethod, FrameSettings, length_in, sensed

if TYPE_CHECKING:
    from .dma_run import Dynamic

KEYS = {
    "phase": ("Phase at the highest frequency", "deg"),
    "change": ("Change since it was measured before, largest", "deg"),
}


class PhaseSettings(FrameSettings):
    """At which frequencies, and how hard."""

    frequencies: list[Annotated[float, quantity("Hz")]] = Field(default_factory=lambda: [1.0, 2.0, 5.0, 10.0],
                                                                min_length=1)  # fmt: skip
    force: Annotated[float, quantity("N")] = 8.0
    """Amplitude"""
    window: int = Field(default=20, ge=2)
    """Periods of one point"""
    spread: Annotated[float, quantity("%")] = 0.3
    """By which two windows may differ for a point to count as settled"""
    most_windows: int = Field(default=8, ge=2)
    blank_loss: float = Field(default=2e-4, ge=0, lt=0.1)
    """tan delta of the blank, at most: counts as doubt"""
    steps: list[Step] = Field(default_factory=list)
    """{frequency, start, stop} of a record that others made"""
    before: list[list[float]] = Field(default_factory=list)
    """[Hz, deg] of the calibration before: what changed since then is told"""

    @model_validator(mode="after")
    def _sensible(self) -> PhaseSettings:
        if min(self.frequencies) <= 0 or self.force <= 0 or self.spread <= 0:
            raise ValueError("frequencies, force and spread must be above zero.")
        return self

    def analysis(self) -> DmaSettings:
        """The same as a dynamic analysis: its amplitude where the force is the one that is wanted."""
        small = 1e-8
        play: dict[str, Any] = {
            "frequencies": sorted(self.frequencies), "amplitude": small, "smallest_amplitude": small,
            "largest_amplitude": 2e-4, "smallest_force": self.force, "largest_force": 1.2 * self.force,
            "least_force": self.force / 2, "spread": self.spread, "most_windows": self.most_windows,
        }  # fmt: skip
        by_one = Geometry(kind="tension", length=1.0, area=1.0)
        return DmaSettings.model_validate({"geometry": by_one, "window": self.window, "play": play,
                                           "sensitivity": self.sensitivity})  # fmt: skip


class Phase(FrameMethod):
    """The method as the registry knows it."""

    name = "frame-phase"
    title = "Phase of a load frame's own"
    steady = True
    roles = ("force", "displacement")
    more = True
    kinds = ("length",)
    reads_only = False
    calibrates = True
    unit_is = "frame_phase"
    knows = {"before": "frame_phase"}
    about = "What phase the frame itself puts between force and length, on a thin steel blank: for dynamic analysis"
    sketch = (line(lambda x: 0.5 + 0.36 * math.sin(12 * x)), line(lambda x: 0.5 + 0.36 * math.sin(12 * x - 0.5)))
    walk_round = (
        {"key": "blank", "text": "Thin steel blank in both grips, straight"},
        {"key": "travel", "text": "End stops set; nobody within reach"},
        {"key": "door", "text": "Guard door, emergency stop", "sense": "interlocks"},
    )
    told = ("point",)
    Settings = PhaseSettings
    readings = {k: f"{label} [{unit}]" for k, (label, unit) in KEYS.items()}
    curves = {"phase": "Force before length [deg] over Hz"}
    views = (Axis("phase", "Phase", ("phase",), "Hz", "deg"),)

    def evaluate(
        self, record: Mapping[str, Channel], settings: PhaseSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        known_roles(settings.sensitivity, record, "sensitivity")
        rate, n = together(record, ("force", "displacement"))
        force = samples_in(record, "force", "N", settings.sensitivity)[:n]
        way = length_in(record, "displacement", settings)[:n]
        own = [m for m in marks if m.get("kind") == "point"]
        steps = settings.steps or [Step.model_validate({k: m[k] for k in ("frequency", "start", "stop")}) for m in own]
        made = Readings(KEYS, settings)
        if not steps:
            made.absent(list(KEYS), "no point was measured; for a record, name its steps")
            return Finding(self.name, made.all())
        pieces = sorted(pieces_of(steps, rate, n))
        held = [dynamic.complex_stiffness(force, way, rate, f, a, b) for f, a, b in pieces]
        at = np.array([f for f, _, _ in pieces])
        phase = np.degrees(np.angle(np.array([k for k, _ in held])))
        doubt = np.degrees(np.hypot(2 * np.array([e for _, e in held]), settings.blank_loss))
        made.put("phase", float(phase[-1]), float(doubt[-1]))
        loose = [f"{m['frequency']:g} Hz" for m in own if not m["settled"]]
        left = [f"{f:g} Hz" for f in settings.frequencies if own and f not in {m["frequency"] for m in own}]
        lacks = [f"not settled to {settings.spread:g} %: {', '.join(loose)}"] if loose else []
        lacks += [f"not measured: {', '.join(left)}"] if left else []
        if settings.before:
            then = {float(row[0]): float(row[1]) for row in settings.before}
            same = [(f, p, u) for f, p, u in zip(at, phase, doubt, strict=True) if float(f) in then]
            if same:
                f, p, u = max(same, key=lambda s: abs(s[1] - then[float(s[0])]))
                made.put("change", float(p - then[float(f)]), float(u))
            else:
                made.absent(["change"], "it was measured at other frequencies before")
        else:
            made.absent(["change"], "nothing is known of it before")
        curve = Curve("phase", "Phase", points(at), points(phase), "Hz", "deg", points(doubt), 2.0)
        found = Finding(self.name, made.all(), (curve,))
        return found.lacking(lacks) if lacks else found

    def calibration(self, finding: Finding, unit: str) -> Calibrated | None:
        reading = finding.reading("phase")
        if reading.value is None:
            raise BadInput(f"there is no phase to enter ({reading.reason}).")
        if not same_kind(unit, "deg"):
            raise BadInput(f"the ledger has this in {unit}: the phase of a frame is in deg; enter it with that unit.")
        curve, by = finding.curve("phase"), factor("deg", unit)
        rows = [
            [f, y * by, 100 * u / abs(y) if y else 0.0]
            for f, y, u in zip(curve.x, curve.y, curve.uncertainty or (), strict=True)
            if f is not None and y is not None and u is not None
        ]
        return Calibrated(rows[-1][1], unit, rows[-1][2], rows, f"at {rows[-1][0]:g} Hz")

    def from_ledger(self, known: Mapping[str, Calibrated]) -> dict[str, Any]:
        last = known.get("frame_phase")
        if last is None or not last.points:
            return {}
        by = factor(last.unit, "deg")
        return {"before": [[float(p[0]), float(p[1]) * by] for p in last.points],
                "limits": {"change": {"low": "-0.2 deg", "high": "0.2 deg"}}}  # fmt: skip

    # --- running ---------------------------------------------------------------------------------------------

    def course(self, settings: PhaseSettings) -> list[CourseItem]:
        made = [CourseItem("Zero, grip", 6.0)]
        for f in sorted(settings.frequencies):
            made.append(CourseItem(f"{f:g} Hz", 4 * max(settings.window / f, 1.0), f))
        return made

    def feasible(self, settings: PhaseSettings, facts: Facts) -> None:
        from .dma_run import Dynamic

        Dynamic(settings.analysis(), facts)
        if 2.2 * settings.force > 0.9 * facts.limits["frame_force"]:
            raise BadInput(f"force: {settings.force:g} N, on a mean as large, is more than the frame bears.")

    def perform(
        self, settings: PhaseSettings, facts: Facts, start: Mapping[str, Any] | None = None
    ) -> Performance:
        return _perform(settings, facts)

    def fill(self, given: dict[str, Any], bench: BenchFacts) -> dict[str, Any]:
        return sensed(super().fill(given, bench), bench)


METHOD = Phase()


def _shown(live: Mapping[str, Any], analysis: Dynamic) -> dict[str, Any]:
    shown = {k: v for k, v in live.get("shown", {}).items() if k not in ("Storage", "tan delta")}
    made = {k: v for k, v in live.items() if k not in ("curves", "units_x")}
    tans = analysis.points.get("", {}).get("tan_delta")
    if tans is not None:
        degrees = [math.degrees(math.atan(v)) for v in tans[1]]
        shown["Phase"] = f"{degrees[-1]:.3f}°"
        made |= {"curves": {"phase": {"now": [list(tans[0]), degrees]}}, "units_x": {"phase": "Hz"}}
    return {**made, "shown": shown}


def _perform(settings: PhaseSettings, facts: Facts) -> Performance:
    """The dynamic analysis of the blank, shown as what it is here."""
    from .dma_run import Dynamic, run_of

    analysis = Dynamic(settings.analysis(), facts)
    inner = run_of(analysis)
    try:
        want = next(inner)
        while True:
            if want.live is not None:
                want = replace(want, live=_shown(want.live, analysis))
            want = inner.send((yield want))
    except StopIteration:
        return
