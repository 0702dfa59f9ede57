"""Making and changing plans from what the ledger knows, and taking a finding back into it."""

from __future__ import annotations

import datetime
from pathlib import Path
from typing import Any

from ..contracts import registry
from ..contracts.finding import Finding
from ..core.errors import BadInput
from .editing import sync
from .elsewhere import by_steps
from .ledger import Calibration, Entry
from .place import Lab
from .plans import DEFAULT_WALK_ROUND, SensorRecord, put_plan
from .takes import Take
from .textfiles import load_yaml


def record_of_sensor(entry: Entry) -> dict[str, Any]:
    """A sensor as a plan holds it."""
    last = entry.last
    made: dict[str, Any] = {
        "serial": entry.sensor.serial, "maker": entry.sensor.maker, "model": entry.sensor.model,
        "kind": entry.sensor.kind, "unit": entry.sensor.unit,
        "sensitivity": last.sensitivity if last else entry.sensor.nominal,
    }  # fmt: skip
    if last:
        made |= {"certificate": last.certificate, "calibrated": last.date.isoformat(), "calibration_lab": last.lab}
        if last.due:
            made["due"] = last.due.isoformat()
        if last.points and by_steps(entry.sensor.kind, last):
            made["steps"] = [[float(x), float(y)] for x, y, *_ in last.points]
        elif last.points:
            made |= {"lowest": float(last.points[0][0]), "highest": float(last.points[-1][0])}
    if entry.sensor.retired is not None:  # out of date from that day on, whatever its certificate says
        made["due"] = min(made.get("due", "9999"), entry.sensor.retired.isoformat())
    return made


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
    made = {c.role: record_of_sensor(known[c.sensor]) for c in rig.channels if c.sensor in known}
    if rig.gauged and rig.gauge is not None and rig.gauge.sensor in known:
        made["reference"] = record_of_sensor(known[rig.gauge.sensor])
    return made


def plan_of(lab: Lab, title: str, article: str, method: str, settings: dict[str, Any], rig_file: Path
            ) -> dict[str, Any]:  # fmt: skip
    """A plan as data, with the ledger's sensors on the rig's channels and the walk-round of its method."""
    facts = lab.facts
    return {
        "lucid-anvil-plan": 1, "title": title, "job": facts.job, "article": article, "rig": str(rig_file),
        "customer": facts.customer, "customer_address": facts.customer_address, "operator": facts.operator,
        "sensors": sensors_of(lab, rig_file), "walk_round": [dict(c) for c in registry.get(method).walk_round],
        "steps": [{"method": method, "settings": settings}],
    }  # fmt: skip


def put_in(folder: Path, name: str, plan: dict[str, Any]) -> Path:
    """A plan into a folder, which is made where it is not there."""
    folder.mkdir(parents=True, exist_ok=True)
    return put_plan(folder / f"{name}.plan.yaml", plan)


def renew_sensor(lab: Lab, serial: str, folder: Path) -> list[Path]:
    """Put a sensor's newest entry of the ledger into the plans below a folder that use it; which ones were changed.
    Takes keep the plan that they were made with."""
    ledger = lab.ledger()
    record = record_of_entry(ledger.entry(serial)).model_dump(exclude_none=True)
    ledger.close()
    changed = []
    for place in sorted(folder.rglob("*.plan.yaml")):
        plan = load_yaml(place)
        roles = [r for r, s in (plan.get("sensors") or {}).items() if s.get("serial") == serial]
        if not roles or all(plan["sensors"][r] == record for r in roles):
            continue
        for role in roles:
            plan["sensors"][role] = dict(record)
        put_plan(place, plan)
        changed.append(place)
    return changed


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


def reference_settings(reference: Entry, today: datetime.date) -> dict[str, Any]:
    """The settings that a reference's newest calibration gives: response, doubt, drift since then."""
    last = reference.last
    if reference.sensor.retired is not None and reference.sensor.retired <= today:
        raise BadInput(f"{reference.sensor.serial}: the reference is retired: nothing may be compared with it.")
    if last is None:
        raise BadInput(f"{reference.sensor.serial}: the reference has no calibration in the ledger: enter one first.")
    unit = last.unit
    years = max((today - last.date).days / 365.25, 0.0)
    made: dict[str, Any] = {"reference_drift": f"{max(reference.yearly_drift(), 0.02) * years:.4f} %"}
    if last.points:
        made["reference_response"] = [[float(p[0]), f"{float(p[1])!r} {unit}"] for p in last.points]
        made["reference_uncertainty"] = [[float(p[0]), f"{float(p[2]):g} %"] for p in last.points]
    else:
        made["reference_sensitivity"] = f"{last.sensitivity!r} {unit}"
        made["reference_uncertainty"] = f"{last.uncertainty or 1.0:g} %"
    return made


def calibration_plan(
    lab: Lab, unit: str, *, today: datetime.date, changes: dict[str, Any] | None = None, as_state: str = "as found",
    rig_file: Path | None = None,
) -> dict[str, Any]:  # fmt: skip
    """A comparison plan for one sensor, on the lab's rig. Raises BadInput where the rig or ledger lacks something."""
    from ..rig.model import load_rig

    place = rig_file or lab.rig_file()
    rig = load_rig(place)
    ledger = lab.ledger()
    entry = ledger.entry(unit)
    if entry.sensor.retired is not None:
        raise BadInput(f"{unit}: it is retired: take it back into use first (ledger change {unit} retired=).")
    if entry.sensor.kind != "accelerometer":
        raise BadInput(f"{unit}: it is a {entry.sensor.kind}; the comparison bench calibrates accelerometers.")
    wired = {c.role: c.sensor for c in rig.channels if c.sensor}
    known = {e.sensor.serial for e in ledger.entries()}
    # Others than the reference only stand by: one that no ledger knows is recorded all the same.
    found = {
        role: ledger.entry(serial) for role, serial in wired.items()
        if role != "unit" and (serial in known or role == "reference")
    }  # fmt: skip
    ledger.close()
    if "reference" not in found:
        raise BadInput(f"{place}: no sensor is plugged in as the reference: hook one up (Ctrl+R).")
    reference = found["reference"]
    settings: dict[str, Any] = {
        **reference_settings(reference, today),
        "reference_frequency": 160.0,
        "transverse_sensitivity": {
            "reference": f"{reference.sensor.transverse or 1.5:g} %", "unit": f"{entry.sensor.transverse or 3.0:g} %",
        },
        "level": "30 m/s^2",
        "insert": True,
        "corridor": [[10.0, "-5 %", "5 %"], [5000.0, "-5 %", "5 %"], [10000.0, "-10 %", "15 %"]],
    }  # fmt: skip
    if entry.sensor.nominal:
        settings["nominal_sensitivity"] = f"{entry.sensor.nominal!r} {entry.sensor.unit}"
        if entry.sensor.tolerance:
            t = f"{entry.sensor.tolerance:g} %"
            settings["limits"] = {"nominal_deviation": {"low": f"-{t}", "high": t}}
    settings.update(changes or {})
    facts = lab.facts
    return {
        "lucid-anvil-plan": 1,
        "title": f"Comparison, {entry.sensor.serial}",
        "job": facts.job,
        "article": entry.sensor.serial,
        "rig": str(place),
        "customer": entry.sensor.owner or facts.customer,
        "customer_address": facts.customer_address,
        "operator": facts.operator,
        "as_state": as_state,
        "sensors": {"unit": record_of_sensor(entry), **{r: record_of_sensor(e) for r, e in found.items()}},
        "walk_round": DEFAULT_WALK_ROUND,
        "steps": [{"method": "accelerometer-comparison", "settings": settings}],
    }


def plan_folder(lab: Lab, unit: str) -> Path:
    return lab.jobs / (lab.facts.job or "bench") / f"comparison-{unit.lower()}"


def write_plan(lab: Lab, unit: str, plan: dict[str, Any], name: str = "comparison") -> Path:
    """Put a plan into its job's folder."""
    folder = plan_folder(lab, unit)
    folder.mkdir(parents=True, exist_ok=True)
    return put_plan(folder / f"{name}.plan.yaml", plan)


def retake_plan(take: Take, folder: Path, frequencies: list[float]) -> dict[str, Any]:
    """A plan that takes some points of a take again, alone."""
    plan = take.plan().model_dump(by_alias=True, exclude_none=True)
    plan["base_take"] = str(Path("..") / take.folder.name) if take.folder.parent == folder else str(take.folder)
    plan["steps"][0]["settings"]["only"] = frequencies
    plan["title"] = f"{take.plan().title}, struck points"
    return plan


def calibration_of(
    take: Take, finding: Finding, *, date: datetime.date, certificate: str, by: str, lab: str,
    due: datetime.date | None,
) -> tuple[str, Calibration]:  # fmt: skip
    """What *Accept* appends to the ledger. Raises BadInput where the finding gives no sensitivity."""
    plan = take.plan()
    unit = plan.sensors.get("unit")
    if unit is None:
        raise BadInput(f"{take.folder}: its plan names no unit: nothing can be entered in the ledger.")
    temperature = next((e.get("temperature") for e in take.events() if e["kind"] == "begin"), None)
    found = registry.get(finding.method).calibration(finding, unit.unit)
    if found is not None:
        return unit.serial, Calibration(
            date=date, sensitivity=found.value, unit=found.unit, as_state=plan.as_state, frequency=None,
            uncertainty=found.uncertainty, certificate=certificate, lab=lab, due=due, verdict=finding.verdict,
            take=str(take.folder), by=by, temperature=temperature, points=found.points,
        )  # fmt: skip
    reading = finding.reading("sensitivity")
    if reading.value is None or not reading.valid:
        raise BadInput(f"{take.name}: there is no valid sensitivity to accept ({reading.reason}).")
    curve = finding.curve("sensitivity")
    doubts = curve.uncertainty or (None,) * len(curve.x)
    points = [
        [f, y, 100 * u / y] for f, y, u in zip(curve.x, curve.y, doubts, strict=True) if y is not None and u is not None
    ]
    frequency = float((finding.detail or {}).get("reference_frequency", 160.0))
    return unit.serial, Calibration(
        date=date, sensitivity=reading.value, unit=reading.unit, as_state=plan.as_state, frequency=frequency,
        uncertainty=100 * (reading.uncertainty or 0.0) / reading.value, certificate=certificate, lab=lab, due=due,
        verdict=finding.verdict, take=str(take.folder), by=by, temperature=temperature, points=points,
    )  # fmt: skip


def next_certificate(lab: Lab, today: datetime.date) -> str:
    """The certificate number that would come next in the year; it is given when a calibration is accepted."""
    ledger = lab.ledger()
    try:
        return ledger.next_number(certificate_start(lab, today))
    finally:
        ledger.close()


def certificate_start(lab: Lab, today: datetime.date) -> str:
    """What the certificate numbers of a year begin with."""
    return f"{lab.facts.certificate_prefix}-{today.year}-"


def add_months(date: datetime.date, months: int) -> datetime.date:
    """The same day some months on, or the last day of that month."""
    import calendar

    month = date.month - 1 + months
    year, month = date.year + month // 12, month % 12 + 1
    return datetime.date(year, month, min(date.day, calendar.monthrange(year, month)[1]))
