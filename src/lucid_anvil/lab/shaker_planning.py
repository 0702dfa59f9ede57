"""Making shaker plans: sensors from the ledger, the walk-round, and edits that go back into plan and profile."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from ..core.errors import BadInput
from .editing import sync
from .ledger import Entry
from .place import Lab
from .planning import record_of_sensor
from .plans import SHAKER_WALK_ROUND, SensorRecord, put_plan
from .textfiles import dump_yaml, load_yaml, whole_write


def record_of_entry(entry: Entry) -> SensorRecord:
    """A ledger's sensor as plans hold it."""
    return SensorRecord.model_validate(record_of_sensor(entry))


def sensors_of(lab: Lab, rig_file: Path) -> dict[str, Any]:
    """The rig's sensors as the ledger knows them, by role; those it does not know are left out."""
    from ..rig.model import load_rig

    rig = load_rig(rig_file)
    ledger = lab.ledger()
    known = {e.sensor.serial: e for e in ledger.entries()}
    ledger.close()
    return {c.role: record_of_sensor(known[c.sensor]) for c in rig.channels if c.sensor in known}


def shaker_plan(lab: Lab, title: str, article: str, method: str, settings: dict[str, Any], rig_file: Path
                ) -> dict[str, Any]:  # fmt: skip
    """A plan as data. Raises BadInput where rig or ledger lack something."""
    facts = lab.facts
    ledger = lab.ledger()
    doubts = {}
    sensors = sensors_of(lab, rig_file)
    for role, record in sensors.items():
        last = ledger.entry(record["serial"]).last
        if last is not None and last.uncertainty:
            doubts[role] = f"{last.uncertainty:g} %"
    ledger.close()
    return {
        "lucid-anvil-plan": 1, "title": title, "job": facts.job, "article": article, "rig": str(rig_file),
        "customer": facts.customer, "customer_address": facts.customer_address, "operator": facts.operator,
        "sensors": sensors, "walk_round": SHAKER_WALK_ROUND,
        "steps": [{"method": method, "settings": {**settings, "uncertainty": doubts}}],
    }  # fmt: skip


def write_shaker_plan(folder: Path, name: str, plan: dict[str, Any], profile: dict[str, Any]) -> Path:
    """Plan and profile side by side; the plan names the profile's file."""
    folder.mkdir(parents=True, exist_ok=True)
    whole_write(folder / f"{name}.profile.yaml", dump_yaml(profile))
    plan["steps"][0]["settings"] = {"profile": f"{name}.profile.yaml", **plan["steps"][0]["settings"]}
    return put_plan(folder / f"{name}.plan.yaml", plan)


def change_step(place: Path, changes: dict[str, Any]) -> None:
    """Put changed settings into a plan; a changed profile goes into its own file where the plan names one."""
    plan = load_yaml(place)
    settings = plan["steps"][0].setdefault("settings", {})
    for key, value in changes.items():
        held = settings.get(key)
        if key == "profile" and isinstance(held, str):
            file = Path(held) if Path(held).is_absolute() else place.parent / held
            sync(file, value)
        else:
            settings[key] = value
    sync(place, plan)


def stretched_course(course: list[dict[str, Any]], step: int, rung: bool, duration: float) -> list[dict[str, Any]]:
    """A course as data with one step's duration [s] changed: a sweep keeps its range and takes another rate."""
    made = [dict(s) for s in course]
    held = made[step]
    text = f"{max(duration, 1.0):.4g} s"
    if "pause" in held:
        held["pause"] = text
    elif rung:
        held["each"] = text
    else:
        for key in ("rate", "total", "sweeps", "cycles"):
            held.pop(key, None)
        held["duration"] = text
    return made


def swap_sensor(lab: Lab, place: Path, role: str, serial: str) -> None:
    """Another sensor from the ledger on a channel: the plan's sensor, its doubt, and what follows from them. Raises
    BadInput for a sensor that is no accelerometer."""
    ledger = lab.ledger()
    entry = ledger.entry(serial)
    ledger.close()
    if entry.sensor.kind != "accelerometer":
        raise BadInput(f"{serial}: it is a {entry.sensor.kind}; this channel takes an accelerometer.")
    plan = load_yaml(place)
    plan.setdefault("sensors", {})[role] = record_of_sensor(entry)
    settings = plan["steps"][0].setdefault("settings", {})
    settings.pop("sensitivity", None)
    if entry.last is not None and entry.last.uncertainty:
        settings.setdefault("uncertainty", {})[role] = f"{entry.last.uncertainty:g} %"
    sync(place, plan)
