"""From plan and rig to what a method is run with."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ..core.errors import BadInput
from ..lab.plans import Plan, load_plan, rig_path
from ..lab.textfiles import check
from ..methods import registry
from ..methods.base import CourseItem, Facts, Input, Method
from ..methods.shaker_settings import ShakerSettings, control_roles, follow_profile
from ..rig.model import MEASURED, Rig, check_guards, load_rig

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
        """What the guards must know of the plan: its own guards, the control points and how they are combined. A
        response that the profile is notched for gets a guard a quarter above its limit."""
        extra = [g.model_dump(exclude_none=True) for g in self.plan.guards]
        control = getattr(self.settings, "control", None)
        if control is None:
            return {"guards": extra} if extra else {}
        roles = [i.role for i in self.facts.inputs if i.kind == "acceleration"]
        for role, level in control.limits.items():
            label = f"Limit of {role}"
            extra.append({"watch": "acceleration", "channel": role, "limit": 1.25 * level, "label": label})
        return {"roles": control_roles(roles, control), "combine": control.combine, "notched": list(control.limits),
                "guards": extra}  # fmt: skip


SPARE = 50e6
"""bytes that stay free beside a take"""


def space_needed(prepared: Prepared) -> float:
    """bytes that the raw record of the whole course will take, a tenth more for what takes longer."""
    seconds = sum(i.duration for i in prepared.course())
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
        if not rig.is_standin and not (sensor and sensor.sensitivity):
            raise BadInput(
                f"channel '{part.role}': the plan states no sensitivity of its sensor {part.sensor or ''}".rstrip()
                + f": choose it from the Ledger, or write it under sensors, {part.role}, sensitivity."
            )
        if not rig.is_standin and sensor and sensor.unit.startswith("pC") and part.conditioner_gain is None:
            raise BadInput(f"channel '{part.role}': a charge sensor needs its conditioner_gain [mV/pC] in the rig.")
        value = sensor.sensitivity if sensor and sensor.sensitivity else 10.0
        if sensor and sensor.unit.startswith("pC"):
            value *= part.conditioner_gain or 10.0  # pC/(m/s²) by mV/pC is mV/(m/s²)
        made[part.role] = value * 1e-3
    return made


def settings_for(plan: Plan, rig: Rig, where: str) -> Any:
    """The step's settings, with what the rig adds: levels, budget, resolution, conditioner gain."""
    method = registry.get(plan.step.method)
    given = dict(plan.step.settings)
    if issubclass(method.Settings, ShakerSettings):
        return _shaker_settings(method, given, plan, rig, where)
    fill = getattr(method, "fill", None)
    if fill is not None:
        known = sensitivities(plan, rig)
        ranges = {c.role: c.range for c in rig.channels}
        return check(method.Settings, fill(given, known, ranges), f"{where}, settings")
    if rig.budget and "budget" not in given:
        given["budget"] = [b.model_dump(exclude_none=True) for b in rig.budget]
    if rig.capability is not None and "capability" not in given:
        given["capability"] = rig.capability
    roles = {c.role: c for c in rig.channels}
    given.setdefault("input_range", {r: roles[r].range for r in ("reference", "unit") if r in roles})
    given.setdefault(
        "resolution",
        {r: 2 * roles[r].range / 2**rig.front_end.bits for r in ("reference", "unit") if r in roles},
    )
    if "unit" in roles and roles["unit"].conditioner_gain is not None:
        given.setdefault("conditioner_gain", roles["unit"].conditioner_gain)
    if "levels" not in given:
        rows = capability_rows(rig)
        given["levels"] = [(f, a, why) for f, a, _, why in rows]
        given["drive_gain"] = [(f, g) for f, _, g, _ in rows]
    return check(method.Settings, given, f"{where}, settings")


def _shaker_settings(method: Method, given: dict[str, Any], plan: Plan, rig: Rig, where: str) -> Any:
    """A shaker method's settings, with the profile in place of its file's name and the sensors' sensitivities."""
    given = follow_profile(given, Path(where).parent)
    known = sensitivities(plan, rig)
    given.setdefault("sensitivity", {r: f"{1e3 * s!r} mV/(m/s²)" for r, s in known.items()})
    given.setdefault("input_range", {c.role: c.range for c in rig.channels if c.kind == "acceleration"})
    return check(method.Settings, given, f"{where}, settings")


def facts_of(plan: Plan, rig: Rig) -> Facts:
    """What a method may know of the bench."""
    known = sensitivities(plan, rig)
    inputs = []
    for c in rig.channels:
        if c.kind in MEASURED:
            inputs.append(Input(c.role, c.kind, 1 / known[c.role], MEASURED[c.kind], c.axis == "axial", c.range))
        elif c.kind == "current":
            inputs.append(Input(c.role, c.kind, 1 / c.scale, "A"))
        else:
            inputs.append(Input(c.role, c.kind, 1.0, "V", range=c.range))
    lines, plant = rig.capability_lines(), rig.plant()
    limits = {
        "stroke": lines.stroke, "velocity": lines.velocity, "force": lines.force, "current": lines.current,
        "voltage": lines.voltage, "acceleration": lines.acceleration, "moving_mass": plant.moving_mass,
        "lowest": rig.band()[0], "highest": rig.band()[1],
    }  # fmt: skip
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
    place = rig_path(plan, plan_file, rig_file)
    return prepared_from(plan, plan_file, load_rig(place), place)


def prepared_from(plan: Plan, plan_file: Path, rig: Rig, rig_file: Path) -> Prepared:
    method = registry.get(plan.step.method)
    settings = settings_for(plan, rig, str(plan_file))
    have = {c.role for c in rig.channels}
    for role in method.roles:
        if role not in have:
            raise BadInput(f"{rig_file}: no channel has the role '{role}' that {method.name} needs: add it.")
    if not method.course(settings):
        raise BadInput(f"{plan_file}: there is no frequency between start and stop: widen them.")
    facts = facts_of(plan, rig)
    try:
        check_guards(plan.guards, rig)
    except ValueError as problem:
        raise BadInput(f"{plan_file}: guards: {problem}") from None
    return Prepared(plan, plan_file, rig, rig_file, method, settings, facts)


def plan_as_kept(prepared: Prepared) -> dict[str, Any]:
    """The plan as plain data with its settings completed, for the take's plan.yaml."""
    held = prepared.plan.model_dump(by_alias=True, exclude_none=True)
    settings = prepared.settings.model_dump(by_alias=True, exclude_none=True, exclude_defaults=True)
    for name in files_kept(prepared):
        settings["profile"] = {**settings["profile"], "file": name}
    held["steps"] = [{"method": prepared.method.name, "settings": plain(settings)}]
    return plain(held)


def files_kept(prepared: Prepared) -> dict[str, Path]:
    """Files that a take needs beside its plan, by the name that they have there: a time profile's record."""
    profile = getattr(prepared.settings, "profile", None)
    if isinstance(profile, dict) and isinstance(profile.get("file"), str):
        place = Path(profile["file"])
        return {f"profile{place.suffix}": place}
    return {}


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
