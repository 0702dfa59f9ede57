"""Accelerometer comparison: a unit back to back with a reference on a shaker (ISO 16063-21)."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Annotated, Any

from pydantic import Field, field_validator, model_validator

from ...contracts.finding import Finding
from ...contracts.method import Axis, BenchFacts, CourseItem, Facts, Method, MethodSettings, Performance
from ...contracts.recording import Channel
from ...contracts.settings import Flag, Model, Seconds, quantity
from ...contracts.sketch import level, line
from ...core.calibration.response import Response
from ...core.errors import BadInput
from ...core.quantities import parse, preferred_frequencies, sensitivity_unit
from ...lab.plans import DEFAULT_WALK_ROUND
from ...rig.model import SourceOfDoubt

Hz = Annotated[float, quantity("Hz")]
Percent = Annotated[float, quantity("%")]
Metres2 = Annotated[float, quantity("m/s^2")]


class StepSetting(Model):
    """Where a tone stands in a record."""

    frequency: Hz
    start: Seconds
    stop: Seconds

    @model_validator(mode="after")
    def _order(self) -> StepSetting:
        if self.frequency <= 0 or self.start < 0 or self.stop <= self.start:
            raise ValueError("a step needs a frequency above zero and a stop after its start.")
        return self


class MultisineSetting(Model):
    """Where a multi-sine stands in a record."""

    frequencies: list[Hz]
    period: Seconds
    start: Seconds
    stop: Seconds


class ComparisonSettings(MethodSettings):
    """Settings of the comparison: first what a record needs, then the doubt, then the run."""

    reference_sensitivity: str | float | None = None
    reference_response: list[tuple[Any, Any]] | None = None
    reference_uncertainty: Any = None
    reference_phase_uncertainty: Annotated[float, quantity("deg")] = 0.5
    reference_correlation: float = Field(default=0.5, ge=0, le=1)
    reference_frequency: Hz | None = None
    steps: list[StepSetting] | None = None
    multisine: MultisineSetting | None = None
    settle: Seconds | None = None
    nominal_sensitivity: str | float | None = None
    conditioner_gain: Annotated[float, quantity("mV/pC")] | None = None
    corridor: list[tuple[Any, Any, Any]] | None = None

    budget: list[SourceOfDoubt] = Field(default_factory=list)
    reference_drift: Percent = 0.0
    transverse_sensitivity: dict[str, Percent] = Field(default_factory=dict)
    resolution: dict[str, Annotated[float, quantity("V")]] = Field(default_factory=dict)
    capability: Any = None

    excitation: str = "stepped"
    start: Hz = 10.0
    stop: Hz = 10000.0
    steps_per_octave: int = 3
    level: Metres2 = 20.0
    levels: list[tuple[Any, Any, Any]] = Field(default_factory=list)
    """Filled in from the rig: [Hz, m/s² that it allows, what limits it]."""
    drive_gain: list[tuple[Any, Any]] = Field(default_factory=list)
    """Filled in from the rig: [Hz, m/s² per volt at the source]."""
    dwell: Seconds = 1.0
    settle_run: Seconds = 0.3
    spread_wanted: Percent = 0.02
    repeats: int = Field(default=3, ge=1, le=20)
    insert: Flag = False
    only: list[Hz] = Field(default_factory=list)
    periods: int = Field(default=6, ge=2)

    @field_validator("excitation")
    @classmethod
    def _kind(cls, value: str) -> str:
        if value not in ("stepped", "multisine"):
            raise ValueError(f"'{value}' is not known; use stepped or multisine.")
        return value

    @model_validator(mode="after")
    def _agree(self) -> ComparisonSettings:
        if self.reference_sensitivity is not None and self.reference_response is not None:
            raise ValueError("give reference_sensitivity or reference_response, not both.")
        if self.reference_response is not None and not self.reference_response:
            raise ValueError("reference_response is empty: give rows of [Hz, sensitivity].")
        if self.start <= 0 or self.stop < self.start:
            raise ValueError("start must be above zero and not above stop.")
        if self.settle is not None and self.settle < 0:
            raise ValueError("settle can't be below zero.")
        self.response()
        return self

    def response(self) -> Response | None:
        """The reference's sensitivity [V or C per m/s²] against frequency; None when none is given."""
        if self.reference_sensitivity is not None:
            rows = [(160.0, self.reference_sensitivity)]
        elif self.reference_response is not None:
            rows = self.reference_response
        else:
            return None
        unit = self.reference_unit()
        return Response(
            tuple(parse(f, "Hz", "reference_response") for f, _ in rows),
            tuple(parse(s, unit, "reference_response") * (1e-3 if unit[0] == "m" else 1e-12) for _, s in rows),
        )

    def reference_unit(self) -> str:
        """mV/(m/s²) or pC/(m/s²)."""
        if self.reference_sensitivity is not None:
            return sensitivity_unit(self.reference_sensitivity)
        assert self.reference_response is not None
        return sensitivity_unit(self.reference_response[0][1])

    def frequencies(self) -> list[float]:
        """Frequencies of a run [Hz]: preferred ones, and the reference frequency among them."""
        if self.only:
            wanted = sorted({*self.only, self.at_reference()})
        else:
            wanted = preferred_frequencies(self.start, self.stop, self.steps_per_octave)
            ref = self.at_reference()
            if wanted and wanted[0] <= ref <= wanted[-1] and all(abs(f / ref - 1) > 1e-3 for f in wanted):
                wanted = sorted([*wanted, ref])
        return wanted

    def at_reference(self) -> float:
        """The reference frequency [Hz]; 160 Hz unless another was chosen (ISO 16063-21, 4.2)."""
        return self.reference_frequency if self.reference_frequency is not None else 160.0


READINGS = {"sensitivity": "mV/(m/s²)", "deviation_max": "%", "nominal_deviation": "%"}
CURVES = {"sensitivity": "mV/(m/s²)", "deviation": "%", "phase": "°"}


class AccelerometerComparison(Method):
    """The method as the registry knows it."""

    name = "accelerometer-comparison"
    title = "Accelerometer comparison"
    roles = ("reference", "unit")
    walk_round = tuple(DEFAULT_WALK_ROUND)
    about = "The sensitivity of an accelerometer over frequency, against a reference"
    sketch = (line(lambda x: 0.45 + 0.02 * math.sin(20 * x) + 0.3 * max(x - 0.6, 0) ** 2),
              line(lambda x: 0.65 + 0.2 * max(x - 0.7, 0)), level(0.25))
    usual = {"reference_frequency": "160 Hz", "level": "30 m/s^2", "insert": "on"}
    optional_roles = ("transverse",)
    told = ("tone", "multisine")
    heavy = (f"{__package__}.reading", f"{__package__}.run")
    idle = "there is no frequency between start and stop: widen them"
    Settings = ComparisonSettings
    readings = {
        "sensitivity": "Sensitivity at the reference frequency [mV/(m/s²) or pC/(m/s²)]",
        "deviation_max": "Largest deviation from it [%]",
        "nominal_deviation": "Deviation from the maker's nominal [%], with nominal_sensitivity",
    }
    curves = {
        "sensitivity": "Sensitivity over Hz",
        "deviation": "Deviation from the sensitivity at the reference frequency [%] over Hz",
        "phase": "Phase, unit minus reference [°] over Hz",
    }
    views = (
        Axis("deviation", "Deviation against corridor", ("deviation",), "Hz", "%", x_log=True),
        Axis("phase", "Phase", ("phase",), "Hz", "°", x_log=True),
        Axis("sensitivity", "Sensitivity", ("sensitivity",), "Hz", "mV/(m/s²)", x_log=True),
    )

    def evaluate(
        self, record: Mapping[str, Channel], settings: ComparisonSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        from .reading import evaluate

        return evaluate(record, settings, marks)

    def together(
        self, parts: Sequence[tuple[Mapping[str, Channel], ComparisonSettings, Sequence[Mapping[str, Any]]]]
    ) -> Finding:
        """Several records of one series as one finding, the newest last: its points stand in place of the struck."""
        from .reading import evaluate

        return evaluate(*parts[-1], parts[:-1])

    def fill(self, given: dict[str, Any], bench: BenchFacts) -> dict[str, Any]:
        """What the rig adds: levels that the shaker allows, budget, resolution, conditioner gain."""
        made = dict(given)
        if bench.budget and "budget" not in made:
            made["budget"] = [dict(b) for b in bench.budget]
        if bench.capability is not None:
            made.setdefault("capability", bench.capability)
        both = {r: bench.ranges[r] for r in ("reference", "unit") if r in bench.ranges}
        made.setdefault("input_range", both)
        made.setdefault("resolution", {r: 2 * v / 2**bench.bits for r, v in both.items()})
        if "unit" in bench.conditioner_gain:
            made.setdefault("conditioner_gain", bench.conditioner_gain["unit"])
        if "levels" not in made:
            rows = bench.allowed()
            made["levels"] = [(f, a, why) for f, a, _, why in rows]
            made["drive_gain"] = [(f, g) for f, _, g, _ in rows]
        return made

    def levels(self, settings: ComparisonSettings) -> tuple[float, float]:
        """Lowest and highest planned level [m/s² peak]."""
        made = [i.level for i in self.course(settings) if i.level is not None]
        return (min(made), max(made)) if made else (settings.level, settings.level)

    def course(self, settings: ComparisonSettings) -> list[CourseItem]:
        from .run import course

        return course(settings)

    def perform(
        self, settings: ComparisonSettings, facts: Facts, start: Mapping[str, Any] | None = None
    ) -> Performance:
        from .run import perform

        return perform(settings, facts, start)


METHOD = AccelerometerComparison()


def points(given: Any, where: str, unit: str = "%") -> tuple[tuple[float, float], ...]:
    """One value, or rows of [Hz, value], as (Hz, value) pairs."""
    if isinstance(given, (list, tuple)):
        rows = tuple((parse(f, "Hz", where), parse(v, unit, where)) for f, v in given)
        if not rows or any(b[0] <= a[0] for a, b in zip(rows, rows[1:], strict=False)):
            raise BadInput(f"{where}: rows of [Hz, {unit}] must rise in frequency.")
        return rows
    return ((160.0, parse(given, unit, where)),)
