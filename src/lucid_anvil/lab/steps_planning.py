"""Plans that calibrate what is read at rest: force and pressure, step by step against a reference."""

from __future__ import annotations

import datetime
import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ..contracts import registry
from ..core.errors import BadInput
from ..core.quantities import parse
from ..rig.model import Rig, load_rig
from .ledger import Entry
from .place import Lab
from .planning import record_of_sensor

METHODS = {
    "force sensor": "force-comparison", "load cell": "force-comparison", "pressure sensor": "pressure-comparison",
}  # fmt: skip
"""By kind of sensor what calibrates it"""
QUANTITY = {"force-comparison": ("force", "N"), "pressure-comparison": ("pressure", "Pa")}


LAID = {"force-comparison": "weight", "pressure-comparison": "pressure balance"}
"""Kind of the ledger's entries that a person lays on in place of a reference that is read"""


@dataclass(frozen=True)
class Laid:
    """Dead weights, or a balance's, of the ledger: which set, and what of it is laid on."""

    serial: str
    loads: Sequence[str]
    """Rising; masses, or the pressures that are marked on them"""
    gravity: str = ""
    """Where the bench stands, such as 9.8128 m/s^2"""


def weights_for(entries: Sequence[Entry], method: str) -> list[str]:
    """Serials of the sets that a method can rest on: in use, with a certificate."""
    wanted = LAID.get(method, "")
    fit = (e for e in entries if e.sensor.kind == wanted and e.sensor.retired is None)
    return [e.sensor.serial for e in fit if e.last is not None and e.last.uncertainty]


def read_for(entries: Sequence[Entry], method: str) -> list[str]:
    """Serials of the references that a person may read for a method, where no cable reaches them: in use, with a
    certificate."""
    fit = (e for e in entries if METHODS.get(e.sensor.kind) == method and e.sensor.use == "reference")
    return [e.sensor.serial for e in fit if e.sensor.retired is None and e.last is not None and e.last.uncertainty]


def method_for(kind: str) -> str:
    """Name of the method that calibrates a kind of sensor step by step; empty for one that none does."""
    return METHODS.get(kind, "")


def rigs_for(lab: Lab, serial: str, method: str, laid: bool = False) -> list[Path]:
    """Rigs on which it can be compared, those that it is wired to first; `laid`: with weights, which takes no
    reference."""
    kind, _ = QUANTITY[method]
    made: list[tuple[bool, Path]] = []
    for place in sorted((lab.folder / "rigs").glob("*.rig.yaml")):
        text = place.read_text(encoding="utf-8", errors="replace")
        if kind not in text or "unit" not in text:
            continue  # whatever it is, it has no such channel: a rig takes a while to be checked
        try:
            rig = load_rig(place)
        except BadInput:
            continue
        by_role = {c.role: c for c in rig.channels}
        if laid:
            fits = "unit" in by_role and by_role["unit"].kind == kind
        elif "reference" in by_role:
            fits = "unit" in by_role and by_role["reference"].kind == kind
        else:
            fits = "unit" in by_role and rig.gauge is not None and rig.gauge.measures == kind
        if fits:
            wired = by_role["unit"].sensor == serial
            if wired or not rig.is_standin:
                made.append((not wired, place))
    return [p for _, p in sorted(made)]


def steps_plan(
    lab: Lab, serial: str, *, top: str, today: datetime.date, steps: int = 10, wait: str = "30 s", hand: bool = False,
    amplifier: str = "", as_state: str = "as found", rig_file: Path | None = None, laid: Laid | None = None,
    read: str = "",
) -> dict[str, Any]:  # fmt: skip
    """A plan that calibrates a force or pressure sensor up to `top`, or by the weights that are `laid` on; `read`: the
    serial of a reference that a person reads and types. Raises BadInput where something is missing."""
    ledger = lab.ledger()
    try:
        entry = ledger.entry(serial)
        method = method_for(entry.sensor.kind)
        if not method:
            raise BadInput(f"{serial} ({entry.sensor.kind}): nothing here calibrates that step by step.")
        if entry.sensor.retired is not None:
            raise BadInput(f"{serial}: it is retired: take it back into use first (ledger change {serial} retired=).")
        kind, unit = QUANTITY[method]
        places = [rig_file] if rig_file is not None else rigs_for(lab, serial, method, laid is not None or bool(read))
        if not places and (laid is not None or read):
            raise BadInput(f"{serial}: no rig has an input for {kind} in the role unit: hook one up (Ctrl+R).")
        if not places:
            raise BadInput(
                f"{serial}: no rig has a reference for {kind} beside it: hook one up (Ctrl+R) with the roles reference"
                " and unit."
            )
        rig = load_rig(places[0])
        if read:
            reference = ledger.entry(read)
            if read not in read_for([reference], method):
                raise BadInput(f"{read}: it is no reference for {kind} in use with a certificate.")
        elif laid is None:
            reference = _reference(rig, ledger.entries(), places[0])
        else:
            reference = ledger.entry(laid.serial)
            if laid.serial not in weights_for([reference], method):
                raise BadInput(f"{laid.serial}: it is no {LAID[method]} in use with a certificate.")
            top = laid.loads[-1] if laid.loads else ""
    finally:
        ledger.close()
    highest = parse(top, unit if laid is None or unit != "N" else "kg", "up to")
    if highest <= 0:
        raise BadInput("up to: give the highest step, such as 10 kN.")
    settings: dict[str, Any] = {
        "reference_uncertainty": f"{reference_doubt(reference, today):.3g} %",
        "course": {"top": top, "steps": steps, "wait": wait, **({"drive": "hand"} if hand or read else {}),
                   **({"typed": True} if read else {})},
    }  # fmt: skip
    if laid is not None:
        weights = {"loads": list(laid.loads), **({"gravity": laid.gravity.strip()} if laid.gravity.strip() else {})}
        settings["course"] = {"wait": wait, "weights": weights}
    if entry.sensor.unit == "mV/V":
        if not amplifier.strip():
            raise BadInput(f"{serial}: it is a strain gauge in mV/V: say what its amplifier makes of that.")
        settings["amplifier"] = amplifier.strip()
    if method == "pressure-comparison":
        if not entry.sensor.nominal:
            raise BadInput(f"{serial}: its nominal sensitivity is not known: errors are against that (Change…).")
        volts = (
            entry.sensor.nominal
            * parse(f"{highest} Pa", "bar", "up to")
            * parse(f"1 {entry.sensor.unit}", "V/bar", "nominal sensitivity")
        )
        settings |= {"span": {"low": "0 bar", "high": top}, "output": {"low": "0 V", "high": f"{volts:.6g} V"}}
    checks = registry.get(method).walk_round
    return {
        "lucid-anvil-plan": 1,
        "title": f"{registry.get(method).title}, {serial}",
        "job": lab.facts.job,
        "article": serial,
        "rig": str(places[0]),
        "customer": entry.sensor.owner or lab.facts.customer,
        "customer_address": lab.facts.customer_address,
        "operator": lab.facts.operator,
        "as_state": as_state,
        "sensors": {"unit": record_of_sensor(entry), "reference": record_of_sensor(reference)},
        "walk_round": [
            {"key": "reference_date", "text": "Reference in date", "sense": "reference_date"}, *map(dict, checks),
            *([{"key": "gauge", "text": "Gauge answers, nothing on it", "sense": "gauge"}]
              if rig.gauged and laid is None and not read else []),
            {"key": "temperature", "text": "Room temperature", "sense": "temperature"},
        ],
        "steps": [{"method": method, "settings": settings}],
    }  # fmt: skip


def reference_doubt(reference: Entry, today: datetime.date) -> float:
    """% expanded, of the reference today: its certificate's, and what it may have drifted since."""
    last = reference.last
    if last is None or not last.uncertainty:
        raise BadInput(f"{reference.sensor.serial}: the reference has no certificate with an uncertainty: enter it.")
    years = max((today - last.date).days / 365.25, 0.0)
    # A drift as far as that either way: rectangular, doubled (JCGM 100, 4.3.7).
    return math.hypot(last.uncertainty, 2 * reference.yearly_drift() * years / math.sqrt(3))


def reference_serial(rig: Rig) -> str | None:
    """Of the sensor in the role of the reference, or of the gauge that is read in its place."""
    wired = next((c.sensor for c in rig.channels if c.role == "reference"), None)
    return wired if wired is not None or rig.gauge is None else rig.gauge.sensor


def _reference(rig: Rig, entries: list[Entry], place: Path) -> Entry:
    serial = reference_serial(rig)
    found = next((e for e in entries if e.sensor.serial == serial), None)
    if found is None:
        raise BadInput(f"{place.name}: the sensor in the role 'reference' ({serial}) stands in no ledger: enter it.")
    if found.sensor.retired is not None:
        raise BadInput(f"{serial}: the reference is retired: nothing may be compared with it.")
    return found
