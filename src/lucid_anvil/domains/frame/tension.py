"""Tension and compression: stress over strain and what is constructed on it (ISO 6892-1, ISO 527-1, ISO 604)."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, field_validator, model_validator

from ...contracts.finding import Curve, Finding
from ...contracts.method import Axis, BenchFacts, CourseItem, Facts, Performance, Thinned
from ...contracts.recording import Channel, Floats
from ...contracts.samples import Readings, listed, points, share_of, unstated
from ...contracts.settings import Flag, Model, quantity
from ...contracts.sketch import line
from ...core.frame import tension as curve
from ...core.quantities import parse, same_kind, split
from .shared import FrameMethod, FrameSettings, Specimen, sensed, thinned
from .tension_course import VIEWS, over_time
from .tension_measured import LENGTHS, NOT_WHOLE, Measured, measured

FEW = 50
"""Points in the modulus window below which that is said"""
KEYS = {
    "modulus": ("Modulus", "GPa"),
    "strength": ("Strength", "MPa"),
    "strain_at_strength": ("Strain at strength, total", "%"),
    "uniform_elongation": ("Uniform elongation", "%"),
    "upper_yield": ("Upper yield", "MPa"),
    "lower_yield": ("Lower yield", "MPa"),
    "strain_at_break": ("Strain at break, total", "%"),
    "elongation_at_break": ("Elongation at break", "%"),
    "poisson": ("Poisson's ratio", ""),
    "energy_to_break": ("Energy to break", "MJ/m³"),
}


class Window(Model):
    """Two stresses, or two strains."""

    model_config = {**Model.model_config, "populate_by_name": True}
    low: Any = Field(alias="from")
    high: Any = Field(alias="to")

    @model_validator(mode="after")
    def _ordered(self) -> Window:
        (low, a), (high, b) = self.ends()
        if a != b:
            raise ValueError("from and to: give two stresses, or two strains.")
        if not low < high:
            raise ValueError("to must be above from.")
        return self

    def ends(self) -> tuple[tuple[float, str], tuple[float, str]]:
        """Both ends in Pa or as a ratio, each with 'stress' or 'strain'."""
        made = []
        for value in (self.low, self.high):
            own = split(value)[1] if isinstance(value, str) else ""
            if own and same_kind(own, "Pa"):
                made.append((parse(value, "Pa"), "stress"))
            else:
                made.append((parse(value, "%") / 100, "strain"))
        return made[0], made[1]


class PullSettings(Model):
    """How a specimen is pulled where a frame is driven; a record that is there knows nothing of it."""

    control: Literal["crosshead", "strain", "stress"] = "crosshead"
    """A speed of the crosshead (ISO 6892-1, method A2), a rate of the strain in a closed loop (A1), or of the stress
    until it flows (B), from where the crosshead keeps the speed that it has then"""
    speed: Annotated[float, quantity("m/s")] = 3e-5
    """Of the crosshead"""
    strain_rate: Annotated[float, quantity("1/s")] = 2.5e-4
    """Range 2 of ISO 6892-1"""
    stress_rate: Annotated[float, quantity("Pa/s")] = 20e6
    """ISO 6892-1 has 6 to 60 MPa/s for steel, 2 to 20 for what is softer than 150 GPa"""
    switch_at: Annotated[float, quantity("%")] | None = None
    """Strain from which the crosshead goes on at its other speed"""
    switch_after_yield: Flag = False
    """Whether it does so where the specimen begins to flow, instead of at a strain"""
    speed_after: Annotated[float, quantity("m/s")] | None = None
    take_off: Literal["wait", "go on"] = "wait"
    """What the crosshead does while the extensometer is taken off at `extensometer_off`: stands until that was done, or
    goes on meanwhile. A guard door that is opened for it ends the run all the same"""
    travel: Annotated[float, quantity("m")] = 0.03
    """At which it ends where nothing broke"""
    finest: Annotated[float, quantity("%")] | None = None
    """Strain that must be seen: means are kept of the pull, so many a second that one covers no more than this by the
    crosshead's speed. Missing: every sample"""
    whole: Annotated[float, quantity("s")] = 2.0
    """Before its end, whatever ended it, of which every sample is kept all the same"""
    rest: Annotated[float, quantity("s")] = 1.0
    """Before the pull, in which zero is taken"""
    zero_in: Literal["both grips", "one grip"] = "both grips"
    """Where the force's zero is taken: with the specimen in one grip (ISO 6892-1 wants it so), before a person closes
    the other and sees what that loads it with; or as it is gripped already, which takes that load off too"""
    go_back: Flag = False
    """Whether the crosshead goes back to where it began once the specimen broke; what it meets stops it"""

    @model_validator(mode="after")
    def _sensible(self) -> PullSettings:
        for name in ("speed", "strain_rate", "travel", "rest", "speed_after", "switch_at", "stress_rate", "finest",
                     "whole"):  # fmt: skip
            value = getattr(self, name)
            if value is not None and value <= 0:
                raise ValueError(f"{name}: it must be above zero.")
        if self.switch_after_yield and self.switch_at is not None:
            raise ValueError("switch_at and switch_after_yield: give one of them.")
        if (self.switch_at is None and not self.switch_after_yield) != (self.speed_after is None):
            raise ValueError("switch_at (or switch_after_yield) and speed_after: give both, or none.")
        return self


class TensionSettings(FrameSettings):
    """The specimen, and how the curve is read."""

    kind: Literal["tension", "compression"] = "tension"
    specimen: Specimen = Field(default_factory=Specimen)
    zero: dict[str, Any] = Field(default_factory=dict)
    """By role, taken off every sample"""
    modulus: Window | None = None
    """{from, to}, both stress or both strain; found from the curve when missing"""
    proof: list[Annotated[float, quantity("%")]] = Field(default_factory=lambda: [0.2])
    """Offsets of the modulus line"""
    toe: Flag = False
    """Whether strain counts from where the modulus line meets zero stress"""
    compliance: Annotated[float, quantity("m/N")] = 0.0
    """Of machine and grips, taken off the displacement"""
    extensometer_off: Annotated[float, quantity("%")] | None = None
    """Strain from which it goes on with the displacement; a run asks for it to be taken off there"""
    break_drop: Annotated[float, quantity("%")] = 50.0
    """Fall of force after the maximum that is a break"""
    pull: PullSettings = Field(default_factory=PullSettings)

    @field_validator("proof", mode="before")
    @classmethod
    def _list(cls, value: Any) -> Any:
        return value if isinstance(value, list) else [value]

    @model_validator(mode="after")
    def _sensible(self) -> TensionSettings:
        if any(p <= 0 for p in self.proof) or len(set(self.proof)) < len(self.proof):
            raise ValueError("proof: offsets must be above zero, each once.")
        if not 0 < self.break_drop < 100:
            raise ValueError("break_drop: it must lie between 0 and 100 %.")
        if self.compliance < 0 or (self.extensometer_off is not None and self.extensometer_off <= 0):
            raise ValueError("compliance and extensometer_off can't be below zero.")
        return self


class Tension(FrameMethod):
    """The method as the registry knows it."""

    name = "tension"
    title = "Tension, compression"
    steady = trends = True
    roles = ("force",)
    optional_roles = LENGTHS
    reads_only = False
    kinds = ("length",)
    about = "How stiff, strong and ductile a specimen is, pulled in a load frame or from a record"
    sketch = (line(lambda x: min(9 * x, 0.62 + 0.22 * math.sin(1.9 * max(x - 0.07, 0))), 0, 0.95),
              line(lambda x: 9 * (x - 0.03), 0.03, 0.12))
    usual = {
        "specimen": {"width": "12.5 mm", "thickness": "4 mm", "gauge_length": "50 mm", "parallel_length": "75 mm"},
        "pull": {"speed": "2 mm/min"},
    }
    walk_round = (
        {"key": "grips", "text": "Specimen in both grips, straight"},
        {"key": "pin", "text": "Extensometer on, its pin out", "sense": "extensometer_pin"},
        {"key": "in_range", "text": "Extensometer in its range", "sense": "extensometer"},
        {"key": "travel", "text": "End stops set; nobody within reach"},
        {"key": "door", "text": "Guard door, emergency stop", "sense": "interlocks"},
    )
    told = ("pull",)
    knows = {"compliance": "frame"}
    Settings = TensionSettings
    readings = {**listed(KEYS), "proof_0.2": "Proof strength at each offset of the list [MPa]"}
    curves = {
        "stress": "Stress [MPa] over strain [%]",
        "force": "Force [kN] over s",
        "length_extension": "Extension [mm] over s; length_displacement and length_corrected (travel, and travel less"
        " the machine's) likewise",
    }
    views = (
        Axis("stress", "Stress and strain", ("stress", "modulus_line", "proof_line*"), "Strain, %", "Stress, MPa"),
        *VIEWS,
    )

    def evaluate(
        self, record: Mapping[str, Channel], settings: TensionSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        proofs = {f"proof_{p:g}": (f"Proof strength, {p:g} %", "MPa") for p in settings.proof}
        keys = {"modulus": KEYS["modulus"], **proofs, **KEYS}
        made = Readings(keys, settings)
        held = measured(record, settings, marks)
        line = _line(held, settings)
        notes = [*held.notes, *gripping(marks)]
        shift = line.foot if line is not None and settings.toe else 0.0
        strain, stress = held.strain - shift, held.stress
        broken = curve.break_at(stress, held.length, settings.break_drop / 100)
        end = stress.size if broken is None else broken
        axial = "displacement" if held.source == "displacement" else "extension"
        stated = settings.uncertainty
        size = share_of(stated, "force", "area")
        _modulus(made, settings, line, share_of(stated, "force", axial, "area"))
        for p in settings.proof:
            value = None if line is None else curve.proof(held.strain, stress, line, p / 100, end)
            why = "there is no modulus line to shift" if line is None else "the curve does not meet the shifted line"
            doubt = None if value is None else float(np.hypot(2 * _noise_at(held, line, value), size * value)) / 1e6
            made.put(f"proof_{p:g}", None if value is None else value / 1e6, doubt, None if value is not None else why)
        _strength(made, strain, stress, line, held.noise(line, int(np.argmax(stress[:end]))), stated, axial, end)
        _yields(made, held, line, end, size)
        last = 0.0 if line is None or broken is None else held.noise(line, broken - 1) / line.slope
        _break(made, strain, stress, line, broken, stated, axial, last)
        _poisson(made, held, line, settings)
        notes += unstated(stated, "force", axial, "area")
        if line is not None:
            low, high = (float(stress[i]) / 1e6 for i in (line.first, line.last))
            found = "given" if settings.modulus is not None else "found"
            many = line.last - line.first + 1
            notes.append(f"Modulus from {low:.4g} to {high:.4g} MPa ({found}, {many} points).")
            if many < FEW:
                notes.append(f"{many} points are few for a modulus: ISO 6892-1 (annex G) wants {FEW}.")
            if settings.toe:
                notes.append(f"Strain counts from {100 * line.foot:.4g} %, where the modulus line meets zero stress.")
        low, high = (0.0, 0.0) if line is None else (float(stress[i]) / 1e6 for i in (line.first, line.last))
        window = {"setting": "modulus", "curves": ["stress"], "over": "y", "unit": "MPa", "low": low, "high": high}
        curves = (*_curves(strain, stress, line, shift, settings), *over_time(held.t, held.force, held.lengths))
        read = Finding(self.name, made.all(), curves, notes=tuple(notes),
                       detail={} if line is None else {"between": window})  # fmt: skip
        # With strains that are off nothing may be called inside.
        off = [n for n in held.notes if any(said in n for said in NOT_WHOLE)]
        return read.lacking(off) if off else read

    # --- running ---------------------------------------------------------------------------------------------

    def course(self, settings: TensionSettings) -> list[CourseItem]:
        from .tension_run import duration

        pull = settings.pull
        way = {"strain": f"{pull.strain_rate:.3g} 1/s of strain", "stress": f"{pull.stress_rate / 1e6:.3g} MPa/s",
               "crosshead": f"{6e4 * pull.speed:.3g} mm/min"}[pull.control]  # fmt: skip
        if pull.finest is not None:
            way += f", a point every {pull.finest:.3g} %"
        first = "Zero" if pull.zero_in == "both grips" else "Zero, grip"
        return [CourseItem(first, pull.rest), CourseItem(f"Pull, {way}", duration(settings))]

    def thinned(self, settings: TensionSettings, facts: Facts) -> Thinned | None:
        from .tension_run import kept_of

        return kept_of(settings, facts)

    def perform(self, settings: TensionSettings, facts: Facts, start: Mapping[str, Any] | None = None) -> Performance:
        from .tension_run import perform

        return perform(settings, facts)

    def feasible(self, settings: TensionSettings, facts: Facts) -> None:
        from .tension_run import Pull

        Pull(settings, facts)

    def fill(self, given: dict[str, Any], bench: BenchFacts) -> dict[str, Any]:
        """Sensitivities [V per unit] that the bench knows."""
        return sensed(super().fill(given, bench), bench)


METHOD = Tension()


def gripping(marks: Sequence[Mapping[str, Any]]) -> list[str]:
    """What a run of ours says of the force that its grips had put on the specimen."""
    gripped = next((m for m in marks if m.get("kind") == "gripped"), None)
    if gripped is not None:
        return [f"Closing the second grip loaded it with {gripped['force']:+.4g} N; the force counts from before."]
    if any(m.get("kind") == "pull" for m in marks):
        return ["Zero was taken in both grips: what gripping had loaded it with is taken off too, and not known."]
    return []


def _line(held: Measured, settings: TensionSettings) -> curve.Line | None:
    if settings.modulus is None:
        return curve.straightest(held.strain, held.stress)
    (low, kind), (high, _) = settings.modulus.ends()
    return curve.line_between(held.strain, held.stress, held.stress if kind == "stress" else held.strain, low, high)


def _modulus(made: Readings, settings: TensionSettings, line: curve.Line | None, stated: float) -> None:
    if line is None:
        why = ("the curve does not reach the window" if settings.modulus is not None
               else "no straight part was found on the curve")  # fmt: skip
        made.put("modulus", None, why=why)
        return
    doubt = line.slope * float(np.hypot(2 * line.error, stated))
    made.put("modulus", line.slope / 1e9, doubt / 1e9)


def _noise_at(held: Measured, line: curve.Line | None, stress: float) -> float:
    """Pa, of the first point beyond the window that reaches a stress."""
    after = 0 if line is None else line.last
    return held.noise(line, after + int(np.argmax(held.stress[after:] >= stress)))


def _strength(
    made: Readings, strain: Floats, stress: Floats, line: curve.Line | None, noise: float,
    stated: Mapping[str, float], axial: str, end: int,
) -> None:  # fmt: skip
    top = int(np.argmax(stress[:end]))
    strength, at = float(stress[top]), float(strain[top])
    made.put("strength", strength / 1e6, float(np.hypot(2 * noise, share_of(stated, "force", "area") * strength)) / 1e6)
    made.put("strain_at_strength", 100 * at, 100 * _flat(strain, stress, top, noise, share_of(stated, axial), end))
    if line is None:
        made.put("uniform_elongation", None, why="there is no modulus")
    else:
        doubt = _flat(strain, stress, top, noise, share_of(stated, axial), end)
        made.put("uniform_elongation", 100 * (at - strength / line.slope), 100 * doubt)


def _flat(strain: Floats, stress: Floats, top: int, noise: float, stated: float, end: int) -> float:
    """Doubt of the strain at a flat maximum: as far as stress lies within its noise there."""
    near = np.flatnonzero(stress[:end] >= stress[top] - 2 * noise)
    reach = float(np.max(np.abs(strain[near] - strain[top]))) if noise > 0 else 0.0
    return float(np.hypot(reach, stated * abs(strain[top])))


def _yields(made: Readings, held: Measured, line: curve.Line | None, end: int, size: float) -> None:
    found = None if line is None else curve.yields(held.strain, held.stress, line, end)
    if found is None or line is None:
        made.absent(("upper_yield", "lower_yield"), "the curve has no yield point")
        return
    for key, value in zip(("upper_yield", "lower_yield"), found, strict=True):
        made.put(key, value / 1e6, float(np.hypot(3 * line.noise, size * value)) / 1e6)


def _break(
    made: Readings, strain: Floats, stress: Floats, line: curve.Line | None, broken: int | None,
    stated: Mapping[str, float], axial: str, noise: float,
) -> None:  # fmt: skip
    """`noise`: of the strain, as the modulus line shows it."""
    keys = ("strain_at_break", "elongation_at_break", "energy_to_break")
    if broken is None:
        made.absent(keys, "the specimen did not break in this record")
        return
    last = broken - 1
    step = float(np.hypot(strain[last] - strain[last - 1], 2 * noise)) if last > 0 else 0.0
    doubt = float(np.hypot(step, share_of(stated, axial) * strain[last]))
    made.put(keys[0], 100 * float(strain[last]), 100 * doubt)
    if line is None:
        made.put(keys[1], None, why="there is no modulus")
    else:
        made.put(keys[1], 100 * float(strain[last] - stress[last] / line.slope), 100 * doubt)
    work = curve.energy(strain, stress, last)
    spread = float(np.hypot(share_of(stated, "force", axial, "area") * work, step * stress[last]))
    made.put(keys[2], work / 1e6, spread / 1e6)


def _poisson(made: Readings, held: Measured, line: curve.Line | None, settings: TensionSettings) -> None:
    if held.transverse is None or line is None:
        made.put(
            "poisson", None, why="there is no transverse channel" if held.transverse is None else "no modulus window"
        )
        return
    part = slice(line.first, line.last + 1)
    x, y = held.strain[part], -held.transverse[part]
    dx = x - x.mean()
    slope = float(dx @ y) / float(dx @ dx)
    rest = y - y.mean() - slope * dx
    error = float(np.sqrt(rest @ rest / max(x.size - 2, 1) / (dx @ dx)))
    if settings.kind == "compression":
        slope = abs(slope)
    made.put("poisson", slope, float(np.hypot(2 * error, share_of(settings.uncertainty, "transverse") * slope)))


def _curves(
    strain: Floats, stress: Floats, line: curve.Line | None, shift: float, settings: TensionSettings
) -> tuple[Curve, ...]:
    keep = thinned(stress.size)
    made = [Curve("stress", "Stress", points(100 * strain[keep]), points(stress[keep] / 1e6), "%", "MPa")]
    if line is not None:
        y = np.array([0.0, 1.02 * float(stress.max())])
        offsets = ((f"proof_line_{p:g}", f"Offset {p:g} %", p / 100) for p in settings.proof)
        for key, label, off in (("modulus_line", "Modulus", 0.0), *offsets):
            x = (y - line.offset) / line.slope + off - shift
            if x[1] <= x[0]:  # too steep to be drawn
                continue
            made.append(Curve(key, label, points(100 * x), points(y / 1e6), "%", "MPa"))
    return tuple(made)
