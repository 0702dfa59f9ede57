"""A plan of any method, begun with usual settings, on a rig and for an article; able to run as it is."""

from __future__ import annotations

import datetime
import shutil
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ..contracts import registry
from ..contracts.method import Calibrated, Method
from ..core.errors import BadInput
from ..lab.patterns import free_folder, slug
from ..lab.place import Lab, lab_of
from ..lab.planning import record_of_sensor, reference_settings, sensors_of
from ..lab.plans import SENSED_WALK_ROUND, put_plan
from ..lab.steps_planning import reference_doubt, reference_serial
from ..rig.model import Rig, load_rig
from .preparing import OWN, prepare

PHASE_OF = "-phase"
"""What follows a frame's serial number where the ledger keeps the phase of its own"""


def lacking(name: str, rig: Rig) -> tuple[list[str], list[str]]:
    """Roles and kinds of inputs that a method needs and a rig has not."""
    method, have = registry.get(name), {OWN, *(c.role for c in rig.channels)}
    if rig.gauged and method.gauged:
        have.add("reference")
    roles = [r for r in method.roles if r not in have]
    return roles, [k for k in method.kinds if k not in {c.kind for c in rig.channels}]


def suits(name: str, rig: Rig) -> str | None:
    """Why a rig can't serve a method; None where it can, by its channels."""
    roles, kinds = lacking(name, rig)
    if roles:
        return f"no channel for {' and '.join(roles)}"
    return f"no channel that measures {' or '.join(kinds)}" if kinds else None


@dataclass(frozen=True)
class FromRecord:
    """A recorded file that a test is begun from."""

    file: Path
    channel: str = ""
    unit: str = ""


def new_plan(
    name: str, rig_file: Path, article: str, title: str = "", lab: Lab | None = None, record: FromRecord | None = None
) -> dict[str, Any]:  # fmt: skip
    """A plan as data. Raises BadInput where the method is run otherwise, or the rig lacks what it needs."""
    method = registry.get(name)
    if method.begun_as:
        raise BadInput(f"{name}: it is run as a step of {method.begun_as}: begin that.")
    if method.reads_only:
        raise BadInput(f"{name}: it reads records that others made: see lucid-anvil evaluate.")
    rig = load_rig(rig_file)
    why = suits(name, rig)
    if why is not None:
        raise BadInput(f"{rig_file}: {why}, which {name} needs: choose another rig, or add the channel.")
    lab = lab or lab_of(rig_file.parent)
    held: dict[str, Any] = {"lucid-anvil-plan": 1, "title": title or f"{method.title}, {article}"}
    if lab is not None:
        facts = lab.facts
        held |= {"job": facts.job, "customer": facts.customer, "customer_address": facts.customer_address,
                 "operator": facts.operator, "sensors": sensors_of(lab, rig_file)}  # fmt: skip
    settings = dict(method.usual)
    rests: set[str] = set()
    if lab is not None:
        known, told = of_devices(lab, rig, method)
        held["sensors"] = {**held["sensors"], **known}
        settings |= told
        # What is out of date is measured anew by the very method that calibrates it: that must not wait for itself.
        rests = {r for r in known if r not in ("unit", method.unit_is)}
    if method.needs_record:
        if record is None:
            raise BadInput(f"{name}: it plays a record: choose its file (--record FILE).")
        if not record.file.is_file():
            raise BadInput(f"{record.file}: there is no such file: choose the record again.")
        settings |= method.from_record(record.file.name, record.channel, record.unit)
    elif record is not None:
        raise BadInput(f"{name}: it takes no record: leave it out.")
    if "reference" in method.roles:
        settings |= _reference(lab, rig, rig_file, method)
    whole = method.as_plan(settings)
    checks = [dict(c) for c in method.walk_round or SENSED_WALK_ROUND]
    if rests:
        checks.append({"key": "devices", "text": "What is known of the frame is in date", "sense": "device_dates"})
    if rig.gauged and method.gauged:
        checks.append({"key": "gauge", "text": "Gauge answers, nothing on it", "sense": "gauge"})
    return {**held, "article": article, "rig": str(rig_file.resolve()),
            "walk_round": checks, **whole}


def of_devices(lab: Lab, rig: Rig, method: Method) -> tuple[dict[str, Any], dict[str, Any]]:
    """What the ledger knows of the rig's devices: who is the unit and on whom settings rest, by role; the settings.
    Raises BadInput where the unit stands in no ledger."""
    frame = rig.frame.serial if rig.frame is not None else None
    serials = {"frame": frame, "frame_phase": f"{frame}{PHASE_OF}" if frame else None}
    wanted = {d: serials.get(d) for d in {*method.knows.values(), method.unit_is} if d}
    ledger = lab.ledger()
    known = {e.sensor.serial: e for e in ledger.entries() if e.sensor.serial in wanted.values()}
    ledger.close()
    roles: dict[str, Any] = {}
    found: dict[str, Calibrated] = {}
    for device in sorted({*method.knows.values()}):
        entry = known.get(wanted[device] or "")
        if entry is not None and (last := entry.last) is not None:
            roles[device] = record_of_sensor(entry)
            found[device] = Calibrated(last.sensitivity, last.unit, last.uncertainty, last.points)
    if method.unit_is:
        entry = known.get(wanted[method.unit_is] or "")
        if entry is None:
            where = f" as '{serial}'" if (serial := wanted[method.unit_is]) else ""
            raise BadInput(
                f"The {method.unit_is.replace('_phase', '’s phase')} of this rig stands in no ledger: enter it"
                f" there{where}, and the frame's serial number in the rig."
            )
        roles["unit"] = record_of_sensor(entry)
    return roles, method.from_ledger(found)


def _reference(lab: Lab | None, rig: Rig, rig_file: Path, method: Method) -> dict[str, Any]:
    """What the ledger knows of the rig's reference: over frequency, or of steps; those the plan's sensor holds."""
    serial = reference_serial(rig)
    if lab is None or serial is None:
        raise BadInput(f"{rig_file}: the reference needs its calibration in a ledger: enter its certificate.")
    ledger = lab.ledger()
    try:
        if "reference_drift" in method.Settings.model_fields:
            return reference_settings(ledger.entry(serial), datetime.date.today())
        return {"reference_uncertainty": f"{reference_doubt(ledger.entry(serial), datetime.date.today()):.3g} %"}
    finally:
        ledger.close()


def begin_plan(
    name: str, rig_file: Path, article: str, out: Path, title: str = "", lab: Lab | None = None,
    record: FromRecord | None = None,
) -> Path:  # fmt: skip
    """Write a new plan and see that it can be run; a record that it plays is copied beside it. Raises BadInput; then
    nothing is written."""
    if out.exists():
        raise BadInput(f"{out}: it exists already: choose another name.")
    plan = new_plan(name, rig_file, article, title, lab, record)
    beside: Path | None = None
    made = [p for p in (out.parent, *out.parent.parents) if not p.exists()]
    try:
        out.parent.mkdir(parents=True, exist_ok=True)
        beside = out.parent / record.file.name if record is not None else None
        if record is not None and beside is not None and not (beside.exists() and beside.samefile(record.file)):
            if beside.exists():
                beside = None
                raise BadInput(f"{out.parent / record.file.name}: another file of that name lies there: move it first.")
            shutil.copyfile(record.file, beside)
        else:
            beside = None
        put_plan(out, plan)
        prepare(out)
    except (BadInput, OSError) as problem:
        for file in (out, beside):
            if file is not None:
                file.unlink(missing_ok=True)
        for folder in made:
            folder.rmdir()
        if isinstance(problem, OSError):
            raise BadInput(f"{out}: it can't be written ({problem.strerror}): choose another place.") from None
        raise
    return out


def place_for(lab: Lab, article: str, title: str) -> Path:
    """Where the next plan of an article goes in a lab: a folder of its own, not one that is there."""
    folder = free_folder(lab.jobs / (lab.facts.job or "bench") / slug(article), slug(title))
    return folder / f"{folder.name}.plan.yaml"
