"""From plan and rig to what a method is run with."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ..contracts import registry
from ..contracts.method import BenchFacts, CourseItem, Facts, Input, Method
from ..contracts.samples import OF_STEPS
from ..contracts.settings import check
from ..core.errors import BadInput
from ..core.quantities import factor, same_kind
from ..lab.plans import Plan, load_plan, rig_path
from ..rig.model import MEASURED, Rig, check_guards, load_rig
from .guards import check_limits

OWN = "drive"
"""Role of the source's own record, which every take has"""
HEADROOM = 0.8
"""Share of each of the shaker's limits that a course may use."""


@dataclass(frozen=True)
class Prepared:
    """All that a run needs."""

    plan: Plan
    plan_file: Path
    rig: Rig
    rig_file: Path
    method: Method
    settings: Any
    facts: Facts

    def course(self) -> list[CourseItem]:
        return self.method.course(self.settings)

    def control(self) -> dict[str, Any]:
        """What the guards must know of the plan: its own guards, the control points and how they are combined."""
        extra = [g.model_dump(exclude_none=True) for g in self.plan.guards]
        made = self.method.guarded(self.settings, self.facts.inputs)
        extra += made.pop("guards", [])
        return {**made, "guards": extra} if made or extra else {}


SPARE = 50e6
"""bytes that stay free beside a take"""


def space_needed(prepared: Prepared) -> float:
    """bytes that the raw record of the whole course will take, a tenth more for what takes longer."""
    thinned = prepared.method.thinned(prepared.settings, prepared.facts)
    seconds = sum(i.duration for i in prepared.course()) if thinned is None else thinned.seconds + 2 * thinned.last
    return 1.1 * 4 * prepared.facts.rate * (len(prepared.rig.channels) + 1) * seconds


def check_space(prepared: Prepared, folder: Path) -> None:
    """Raises BadInput where the disk has no room for the take."""
    import os

    place = folder
    while not place.exists() and place != place.parent:
        place = place.parent
    held = os.statvfs(place)
    free, needed = float(held.f_bavail * held.f_frsize), space_needed(prepared) + SPARE
    if free < needed:
        raise BadInput(
            f"{folder}: the take needs {needed / 1e6:.0f} MB and {free / 1e6:.0f} MB are free: make room, or choose"
            " another place."
        )


def capability_rows(rig: Rig, start: float = 5.0, stop: float = 12000.0) -> list[tuple[float, float, float, str]]:
    """(Hz, m/s² allowed, m/s² per volt at the source, what limits) along the frequency axis."""
    f = np.geomspace(start, min(stop, 0.45 * rig.front_end.rate), 160)
    plant = rig.plant()
    allowed, why = rig.capability_lines().allowed(plant, f, HEADROOM)
    gain = np.abs(plant.response(f)[0])
    return [(float(a), float(b), float(c), d) for a, b, c, d in zip(f, allowed, gain, why, strict=True)]


def sensitivities(plan: Plan, rig: Rig) -> dict[str, float]:
    """V per unit by role, from the plan's sensors (for levels and guards; results rest on the settings). Raises
    BadInput for a sensor that is really there and whose sensitivity nobody states: levels would rest on a guess."""
    made = {}
    for part in rig.channels:
        if part.kind not in MEASURED:
            continue
        sensor = plan.sensors.get(part.role)
        if sensor and sensor.unit == "mV/V":
            # What a volt is there, its amplifier says: with the certificate's steps, or typed, or not known.
            if part.bridge_amplifier is not None and sensor.steps:
                step, output = sensor.steps[-1]
                made[part.role] = part.bridge_amplifier * output / step
            elif part.typed_sensitivity is not None:
                made[part.role] = part.typed_sensitivity
            continue
        if part.typed_sensitivity is not None and not (sensor and sensor.sensitivity):
            made[part.role] = part.typed_sensitivity
            continue
        if not rig.is_standin and not (sensor and sensor.sensitivity):
            raise BadInput(
                f"channel '{part.role}': the plan states no sensitivity of its sensor {part.sensor or ''}".rstrip()
                + ": choose it from the Ledger, or type its sensitivity at the channel."
            )
        if not rig.is_standin and sensor and sensor.unit.startswith("pC") and part.conditioner_gain is None:
            raise BadInput(f"channel '{part.role}': a charge sensor needs its conditioner_gain [mV/pC] in the rig.")
        whole = f"V/({MEASURED[part.kind]})".replace("²", "^2")
        if sensor and sensor.sensitivity and same_kind(sensor.unit, whole):
            made[part.role] = sensor.sensitivity * factor(sensor.unit, whole)
            continue
        value = sensor.sensitivity if sensor and sensor.sensitivity else 10.0
        if sensor and sensor.unit.startswith("pC"):
            value *= part.conditioner_gain or 10.0  # pC/(m/s²) by mV/pC is mV/(m/s²)
        made[part.role] = value * 1e-3
    return made


def steps_of(plan: Plan, rig: Rig, known: Mapping[str, float]) -> dict[str, list[tuple[float, float]]]:
    """Rows of (N or Pa, V) by role, of sensors that were calibrated step by step. `known`: V per unit by role."""
    made = {}
    for part in rig.channels:
        sensor = plan.sensors.get(part.role)
        if sensor is None or not sensor.steps or part.kind not in OF_STEPS or part.role not in known:
            continue
        if sensor.unit == "mV/V":
            by = part.bridge_amplifier
            rows = [] if by is None else [(x, y * by) for x, y in sensor.steps]
        elif sensor.sensitivity:
            by = known[part.role] / sensor.sensitivity
            rows = [(x, x * y * by) for x, y in sensor.steps]
        else:
            rows = []
        if rows:
            made[part.role] = rows
    return made


def bench_of(plan: Plan, rig: Rig) -> BenchFacts:
    """What a method completes its settings with."""
    known = sensitivities(plan, rig)
    return BenchFacts(
        known, {c.role: c.range for c in rig.channels}, {c.role: c.kind for c in rig.channels},
        steps_of(plan, rig, known), rig.gauge.measures if rig.gauge is not None and rig.gauged else "",
        {c.role: c.conditioner_gain for c in rig.channels if c.conditioner_gain is not None}, rig.front_end.bits,
        tuple(b.model_dump(exclude_none=True) for b in rig.budget or ()), rig.capability, lambda: capability_rows(rig),
    )  # fmt: skip


def settings_for(plan: Plan, rig: Rig, where: str) -> Any:
    """The step's settings, with what its files hold and what the rig adds."""
    method = registry.get(plan.step.method)
    given = method.beside(plan.step.settings, Path(where).parent)
    return check(method.Settings, method.fill(given, bench_of(plan, rig)), f"{where}, settings")


def facts_of(plan: Plan, rig: Rig) -> Facts:
    """What a method may know of the bench."""
    known = sensitivities(plan, rig)
    inputs = []
    for c in rig.channels:
        if c.kind in MEASURED:
            axial = c.axis == "axial"
            inputs.append(Input(c.role, c.kind, 1 / known[c.role], MEASURED[c.kind], axial, c.range, c.coupling))
        elif c.kind == "current":
            inputs.append(Input(c.role, c.kind, 1 / c.scale, "A", coupling=c.coupling))
        else:
            inputs.append(Input(c.role, c.kind, 1.0, "V", range=c.range, coupling=c.coupling))
    lines, plant = rig.capability_lines(), rig.plant()
    limits = {
        "stroke": lines.stroke, "velocity": lines.velocity, "force": lines.force, "current": lines.current,
        "voltage": lines.voltage, "acceleration": lines.acceleration, "moving_mass": plant.moving_mass,
        "lowest": rig.band()[0], "highest": rig.band()[1],
    }  # fmt: skip
    if rig.frame is not None:
        limits |= rig.frame.limits
    f = np.geomspace(1.0, 0.49 * rig.front_end.rate, 300)
    h = np.abs(plant.response(f))
    model = tuple((float(a), float(h[0, i]), float(h[1, i]), float(h[3, i])) for i, a in enumerate(f))
    end = rig.front_end
    delay = 0.0 if rig.is_standin else end.card.delay / end.rate
    return Facts(end.rate, end.block, end.source_range, known, tuple(inputs), limits, model, tuple(sorted(end.ranges)),
                 delay=delay, switched=rig.is_standin or "load" in rig.instruments, routed=rig.is_standin)  # fmt: skip


def prepare(plan_file: Path, rig_file: Path | None = None) -> Prepared:
    """Read plan and rig and check one against the other. Raises BadInput."""
    plan = load_plan(plan_file)
    if plan.several:
        raise BadInput(f"{plan_file}: it has {len(plan.steps)} steps: they are run one after the other, as a series.")
    place = rig_path(plan, plan_file, rig_file)
    return prepared_from(plan, plan_file, load_rig(place), place)


def prepared_from(plan: Plan, plan_file: Path, rig: Rig, rig_file: Path) -> Prepared:
    method = registry.get(plan.step.method)
    settings = settings_for(plan, rig, str(plan_file))
    have = {c.role for c in rig.channels} | {OWN}
    for role in method.needs(settings):
        if role not in have:
            raise BadInput(f"{rig_file}: no channel has the role '{role}' that {method.name} needs: add it.")
    if not method.course(settings):
        raise BadInput(f"{plan_file}: {method.idle}.")
    facts = facts_of(plan, rig)
    try:
        method.fits(settings, facts.inputs)
    except BadInput as problem:
        raise BadInput(f"{rig_file}: {problem}") from None
    try:
        method.feasible(settings, facts)
    except BadInput as problem:
        raise BadInput(f"{plan_file}: {problem}") from None
    try:
        check_guards(plan.guards, rig)
    except ValueError as problem:
        raise BadInput(f"{plan_file}: guards: {problem}") from None
    made = Prepared(plan, plan_file, rig, rig_file, method, settings, facts)
    try:
        check_limits(rig, made.control())
    except BadInput as problem:
        raise BadInput(f"{plan_file}: {problem}") from None
    return made


def plan_as_kept(prepared: Prepared) -> dict[str, Any]:
    """The plan as plain data with its settings completed, for the take's plan.yaml."""
    held = prepared.plan.model_dump(by_alias=True, exclude_none=True)
    settings = prepared.settings.model_dump(by_alias=True, exclude_none=True, exclude_defaults=True)
    held["steps"] = [{"method": prepared.method.name, "settings": plain(prepared.method.kept(settings))}]
    return plain(held)


def files_kept(prepared: Prepared) -> dict[str, Path]:
    """Files that a take needs beside its plan, by the name that they have there."""
    return dict(prepared.method.files(prepared.settings))


def rig_as_kept(prepared: Prepared) -> dict[str, Any]:
    held = prepared.rig.model_dump(by_alias=True, exclude_none=True)
    held["calibrations"] = {r: s.model_dump(exclude_none=True) for r, s in prepared.plan.sensors.items()}
    return plain(held)


def plain(data: Any) -> Any:
    """Tuples as lists and numpy numbers as Python's, so that YAML stays readable."""
    if isinstance(data, dict):
        return {k: plain(v) for k, v in data.items()}
    if isinstance(data, (list, tuple)):
        return [plain(v) for v in data]
    if isinstance(data, np.generic):
        return data.item()
    return data
