"""Calibration of a force transducer against a reference, and its class (ISO 376)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Any

import numpy as np
from pydantic import Field, model_validator

from ...contracts.finding import Curve, Finding
from ...contracts.method import Axis, BenchFacts, Calibrated, CourseItem, Facts, Performance, record_of
from ...contracts.recording import Channel, Floats
from ...contracts.samples import Readings, listed, points, samples_in, together
from ...contracts.settings import Model, quantity
from ...contracts.sketch import stairs
from ...core.errors import BadInput
from ...core.quantities import parse
from ...core.steps import force
from .comparison_course import ForceCourse, duration, force_stages
from .force_results import calibrated, most, so_far, table_of
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
    "sensitivity": ("Sensitivity at the highest step", ""),
    "repeatability": ("Repeatability b′, same mounting", "%"),
    "reproducibility": ("Reproducibility b, rotated", "%"),
    "interpolation": ("Interpolation", "%"),
    "zero": ("Zero", "%"),
    "reversibility": ("Reversibility", "%"),
    "creep": ("Creep, 30 s to 300 s", "%"),
    "class": ("Class of ISO 376, 0 for 00", ""),
}
CREEP = (30.0, 300.0)
"""s after loading (ISO 376, 7.4.4)"""


class ForceStep(SeriesStep):
    """One step; `nominal` 0 up is the zero before a series, 0 down the one after it."""

    position: str | float = "0 deg"
    """How the transducer was turned in its mounting"""


class Creep(Model):
    """When the unit was loaded, and until when."""

    loaded: list[Annotated[float, quantity("s")]]

    @model_validator(mode="after")
    def _ordered(self) -> Creep:
        if len(self.loaded) != 2 or not 0 <= self.loaded[0] < self.loaded[1]:
            raise ValueError("loaded: give start and stop, in s.")
        return self


class ForceSettings(StepsSettings):
    """The steps, the reference and the polynomial."""

    steps: list[ForceStep] = Field(default_factory=list)
    """{series, nominal, direction, position, start, stop}"""
    reference_sensitivity: Any = None
    """Of a reference that is recorded in volts, like '2 mV/kN'"""
    reference_uncertainty: Annotated[float, quantity("%")] | None = None
    """Of the calibration force, expanded (k = 2)"""
    fit_order: int = 3
    creep: Creep | None = None
    """{loaded: [start, stop]}"""
    amplifier: Any = None
    """What makes volts of a strain gauge's signal, like '5 V/(mV/V)', where the unit is read behind it"""
    course: ForceCourse = Field(default_factory=ForceCourse)


class ForceComparison(ComparisonMethod):
    """The method as the registry knows it."""

    name = "force-comparison"
    title = "Force comparison"
    roles = ("reference", "unit")
    about = "How true a force transducer is against a reference, and which class it keeps"
    sketch = (stairs((0.1, 0.3, 0.5, 0.7, 0.9, 0.7, 0.5, 0.3, 0.1)),)
    reads_only = False
    at_rest = True
    standard = "Comparison, ISO 376"
    calibrates = True
    idle = "nothing is run: give the highest step ('course: top')"
    usual = {"course": {"top": "5 kN"}}
    walk_round = (
        {"key": "aligned", "text": "Reference and unit stand in one line, pads clean"},
        {"key": "clear", "text": "Nobody reaches between the platens"},
    )
    told = ("step",)
    Settings = ForceSettings
    readings = listed(KEYS)
    curves = {
        "fit": "Polynomial [unit's unit] over nominal force [N]",
        "error": "Mean reading less polynomial [unit's unit]",
        "sensitivity": "Mean reading over nominal force",
        "repeatability": "[%]; reproducibility, interpolation and reversibility likewise",
    }
    views = (
        Axis("error", "Error against the polynomial", ("error",), "N", ""),
        Axis("characteristics", "Characteristics",
             ("repeatability", "reproducibility", "interpolation", "reversibility"), "N", "%"),
    )  # fmt: skip

    def evaluate(
        self, record: Mapping[str, Channel], settings: ForceSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        held = record_of(record, settings)
        laid = settings.course.unrecorded and "reference" not in held
        rate, n = together(held, ("unit",) if laid else ("reference", "unit"))
        given = {**settings.sensitivity}
        if settings.reference_sensitivity is not None:
            given["reference"] = settings.reference_sensitivity
        channel = held["unit"]
        if not channel.unit and "unit" not in given:
            raise BadInput("the unit channel states no unit: name it like 'unit [mV/V]'.")
        own = "N" if "unit" in given else channel.unit
        x_unit = samples_in(held, "unit", "N", given) if "unit" in given else channel.samples()
        if settings.amplifier is not None:
            if "unit" in given:
                raise BadInput("amplifier: the unit's sensitivity is given too: leave one of them out.")
            by = parse(settings.amplifier, f"{own}/(mV/V)", "amplifier")
            if by <= 0:
                raise BadInput("amplifier: it must be above zero.")
            own, x_unit = "mV/V", x_unit / by
        steps = ordered(settings.steps or marks_as_steps(marks, ForceStep), "N", held["unit"])
        typed = read_apart(steps, settings.course.gauge) if laid and settings.course.weights is None else ""
        x_ref = as_reference(steps, n) if laid else samples_in(held, "reference", "N", given)
        series, scatter = _series(steps, x_ref, x_unit)
        count = len({f for s in force.rotated_of(series) for f in s.up})
        if not 1 <= settings.fit_order <= max(count - 1, 1):
            raise BadInput(f"fit_order: {count} steps allow 1 to {max(count - 1, 1)}.")
        if not set.intersection(*(set(s.up) for s in force.rotated_of(series))):
            raise BadInput("steps: the series in different positions have no rising step in common.")
        found = force.characterise(series, settings.fit_order)
        creep = _creep(_loaded(settings, marks), x_unit, rate, n, abs(float(found.mean[-1])))
        keys = {**KEYS, "sensitivity": (KEYS["sensitivity"][0], f"{own}/N")}
        made = Readings(keys, settings)
        notes = _readings(made, series, found, creep, scatter, settings)
        if laid and settings.course.weights is not None:
            notes.append(said_of(settings.course.weights))
        elif laid:
            notes.append(typed)
        if found.rotated == 1:
            notes.append("There is no second position: what mounting does to the unit is not known.")
        detail = {"polynomial": [float(c) for c in found.coefficients], "table": table_of(found, own)}
        return Finding(self.name, made.all(), _curves(found, own), notes=tuple(notes), detail=detail)

    # --- running ---------------------------------------------------------------------------------------------

    def course(self, settings: ForceSettings) -> list[CourseItem]:
        top = settings.course.highest("N")
        return [] if top is None else duration(settings.course, force_stages(settings.course), top)

    def perform(self, settings: ForceSettings, facts: Facts, start: Mapping[str, Any] | None = None) -> Performance:
        from .comparison_run import perform

        top = settings.course.highest("N")
        if top is None:
            raise BadInput(self.idle)
        return perform(settings.course, force_stages(settings.course), top, "N", facts,
                       lambda steps: so_far(steps, settings))  # fmt: skip

    def fill(self, given: dict[str, Any], bench: BenchFacts) -> dict[str, Any]:
        return with_reference(super().fill(given, bench), bench, "force", "N")

    def calibration(self, finding: Finding, unit: str) -> Calibrated:
        return calibrated(finding, unit)


METHOD = ForceComparison()


def _series(steps: list[Step], reference: Floats, unit: Floats) -> tuple[list[force.Series], float]:
    """Series with readings less zero at their nominals, and the standard error of a reading as a ratio (of the highest
    step's). Raises BadInput where a series has no zero before it."""
    made, scatter = [], []
    for number in dict.fromkeys(s.series for s in steps):
        own = [s for s in steps if s.series == number]
        before = next((s for s in own if s.nominal == 0 and s.rising), None)
        first = next((s for s in own if s.nominal != 0), None)
        if first is None:
            raise BadInput(f"steps: series {number} has no step under load.")
        if before is None or before.a > first.a:
            raise BadInput(f"steps: series {number} has no zero before it: add a step {{nominal: 0, direction: up}}.")
        after = next((s for s in own if s.nominal == 0 and not s.rising and s.a > first.a), None)
        positions = {s.position for s in own if s.nominal != 0}
        if len(positions) > 1:
            raise BadInput(f"steps: series {number} has two positions: a position keeps its series' number.")
        (r0, _), (u0, e0) = reference_at(reference, before), mean_of(unit, before)
        up: dict[float, float] = {}
        down: dict[float, float] = {}
        for s in own:
            if s.nominal == 0:
                continue
            (r, er), (u, eu) = reference_at(reference, s), mean_of(unit, s)
            if r - r0 == 0:
                raise BadInput(f"steps: {s.where}: the reference shows no force there: mend its start and stop.")
            value = (u - u0) * s.nominal / (r - r0)
            (up if s.rising else down)[s.nominal] = value
            if value:
                scatter.append(np.sqrt((eu**2 + e0**2) / max((u - u0) ** 2, 1e-300) + (er / (r - r0)) ** 2))
        if not up:
            raise BadInput(f"steps: series {number} has no rising step under load.")
        back = None if after is None else mean_of(unit, after)[0] - u0
        made.append(force.Series(number, positions.pop(), up, down, back))
    return made, float(np.median(scatter)) if scatter else 0.0


def _loaded(settings: ForceSettings, marks: Sequence[Mapping[str, Any]]) -> Creep | None:
    """When creep was recorded: as said, or as a take's own mark has it."""
    held = [m for m in marks if m.get("kind") == "loaded"]
    if settings.creep is not None or not held:
        return settings.creep
    return Creep(loaded=[float(held[-1]["start"]), float(held[-1]["stop"])])


def _creep(held: Creep | None, unit: Floats, rate: float, n: int, top: float) -> float | None:
    """% of the highest reading; None where it was not measured. Raises BadInput for less than 300 s of load."""
    if held is None:
        return None
    start, stop = held.loaded
    if stop - start < CREEP[1] - 1e-9:
        raise BadInput(f"creep: {stop - start:g} s of load: readings at 30 s and at 300 s are needed.")
    if start + CREEP[1] > n / rate + 1.5 / rate:
        raise BadInput(f"creep: the record ends at {n / rate:g} s, before 300 s of load.")
    values = []
    for after in CREEP:
        # Half a second on either side where there is as much: a reading, not a sample.
        a = int(round((start + after - 0.5) * rate))
        b = int(round((min(start + after + 0.5, stop)) * rate))
        if b <= a:
            a = min(int(round((start + after) * rate)), n - 1)
            b = a + 1
        values.append(float(np.mean(unit[max(a, 0) : min(max(b, a + 1), n)])))
    return 100 * (values[1] - values[0]) / top


def _readings(
    made: Readings, series: list[force.Series], found: force.Characteristics, creep: float | None, scatter: float,
    settings: ForceSettings,
) -> list[str]:  # fmt: skip
    largest = {
        "repeatability": most(found.repeatability), "reproducibility": most(found.reproducibility),
        "interpolation": most(found.interpolation), "zero": None if found.zero is None else abs(found.zero),
        "reversibility": most(found.reversibility), "creep": None if creep is None else abs(creep),
    }  # fmt: skip
    stated = settings.reference_uncertainty
    notes = []
    value = abs(float(found.mean[-1] / found.nominal[-1]))
    if stated is None:
        notes.append(
            "No reference_uncertainty is given: the sensitivity has no doubt here, and the class leaves it out."
        )
        made.put("sensitivity", value)
    else:
        top = -1
        turned = [s.up[float(found.nominal[-1])] for s in force.rotated_of(series)]
        mounting = (100 * float(np.std(turned, ddof=1) / np.sqrt(len(turned))) / abs(float(found.mean[top]))
                    if len(turned) > 1 else 0.0)  # fmt: skip
        repeat = 0.0 if found.repeatability is None else float(found.repeatability[top]) / np.sqrt(3)
        late = 0.0 if creep is None else abs(creep) / np.sqrt(3)
        combined = np.sqrt((stated / 2) ** 2 + mounting**2 + repeat**2 + late**2 + (100 * scatter) ** 2)
        made.put("sensitivity", value, float(2 * combined) / 100 * value)
        if found.rotated == 1:
            notes.append("The doubt of the sensitivity leaves out what another mounting would do.")
    why = {
        "repeatability": "there is no second series in one position", "reproducibility": "there is no second position",
        "interpolation": "the polynomial is nought at a step", "zero": "no series has a zero after it",
        "reversibility": "nothing falls", "creep": "no creep was recorded",
    }  # fmt: skip
    for key, figure in largest.items():
        made.put(key, figure, None if figure is None else 100 * 2 * scatter * np.sqrt(2), why[key] or None)
    if found.reproducibility is None:
        made.put("class", None, why="there is no second position")
        return notes
    figures = {**largest, "reference_uncertainty": stated}
    best = force.class_of(figures)
    made.put("class", best, 0.0, None if best is not None else "it is worse than class 2")
    for name in force.costs(figures, best):
        notes.append(f"What costs the better class: {name.replace('_', ' ')}, {figures[name]:.3g} %.")
    not_measured = [k for k, v in largest.items() if v is None]
    if not_measured:
        notes.append(f"Not measured, so not counted for the class: {', '.join(not_measured)}.")
    return notes


def _curves(found: force.Characteristics, own: str) -> tuple[Curve, ...]:
    x = points(found.nominal)
    made = [
        Curve("fit", "Polynomial", x, points(found.fitted), "N", own),
        Curve("error", "Mean less polynomial", x, points(found.mean - found.fitted), "N", own),
        Curve("sensitivity", "Sensitivity", x, points(found.mean / found.nominal), "N", f"{own}/N"),
    ]
    for key in ("repeatability", "reproducibility", "interpolation", "reversibility"):
        values = getattr(found, key)
        if values is not None:
            made.append(Curve(key, key.capitalize(), x, points(values), "N", "%"))
    return tuple(made)
