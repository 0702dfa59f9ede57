"""Plans of vibration tests: their profile beside them, a course's stretch drawn longer, another sensor on a channel."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from ...core.errors import BadInput
from ...lab.editing import sync
from ...lab.place import Lab
from ...lab.planning import plan_of, put_in, record_of_sensor
from ...lab.textfiles import dump_yaml, load_yaml, whole_write


def shaker_plan(lab: Lab, title: str, article: str, method: str, settings: dict[str, Any], rig_file: Path
                ) -> dict[str, Any]:  # fmt: skip
    """A plan as data, with the doubts that the ledger states of its sensors. Raises BadInput where rig or ledger lack
    something."""
    made = plan_of(lab, title, article, method, settings, rig_file)
    ledger = lab.ledger()
    doubts = {}
    for role, record in made["sensors"].items():
        last = ledger.entry(record["serial"]).last
        if last is not None and last.uncertainty:
            doubts[role] = f"{last.uncertainty:g} %"
    ledger.close()
    made["steps"][0]["settings"] = {**settings, "uncertainty": doubts}
    return made


def write_shaker_plan(folder: Path, name: str, plan: dict[str, Any], profile: dict[str, Any]) -> Path:
    """Plan and profile side by side; the plan names the profile's file."""
    folder.mkdir(parents=True, exist_ok=True)
    whole_write(folder / f"{name}.profile.yaml", dump_yaml(profile))
    plan["steps"][0]["settings"] = {"profile": f"{name}.profile.yaml", **plan["steps"][0]["settings"]}
    return put_in(folder, name, plan)


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
