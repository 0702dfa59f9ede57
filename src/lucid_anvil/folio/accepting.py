"""Accepting a finding: into the ledger, and out as a certificate."""

from __future__ import annotations

import datetime
import json
import math
import time
from dataclasses import replace
from typing import Any

from ..contracts import registry
from ..contracts.finding import Finding
from ..core.errors import BadInput
from ..core.quantities import parse
from ..lab import planning
from ..lab.hashes import wrong
from ..lab.ledger import Calibration
from ..lab.place import Lab
from ..lab.planning import renew_sensor
from ..lab.takes import Take, list_takes
from .certificate import report


def accept_take(
    lab: Lab, take: Take, finding: Finding, as_state: str, by: str, wants_due: bool, reason: str = ""
) -> str:
    """Append the finding to the ledger and write the certificate; the take notes that it was accepted. Its number.

    The plan in the take is left as it was; what was decided at acceptance is an event beside it. `reason` why a
    calibration that is not complete is certified all the same: it is printed on the certificate. Raises BadInput
    without one, and for a take that was accepted before.
    """
    if not finding.complete and not reason.strip():
        raise BadInput(
            f"{take.name}: it is not complete ({'; '.join(finding.missing)}): go on with it, or say why it is certified"
            " as it is."
        )
    if (changed := wrong(take)) is not None:
        raise BadInput(f"{take.folder}: {changed}: it can't be certified.")
    today = datetime.date.today()
    ledger = lab.ledger()
    try:
        serial, calibration = planning.calibration_of(
            take, finding, date=today, certificate="", by=by, lab=lab.facts.name, due=None
        )
        months = ledger.entry(serial).sensor.interval_months
        due = planning.add_months(today, months) if months else None
        start = planning.certificate_start(lab, today)
        number = ledger.accept(serial, replace(calibration, as_state=as_state, due=due), start)
    finally:
        ledger.close()
    event = {"kind": "accepted", "certificate": number, "by": by, "as_state": as_state, "due_on_certificate": wants_due}
    if reason.strip():
        event["reason"] = reason.strip()
    _note(take, event)
    lab.certificates.mkdir(exist_ok=True)
    report(take, lab.certificates / f"{number}.pdf")
    return number


def accept_check(lab: Lab, take: Take, finding: Finding, by: str) -> str:
    """Append a microphone check to the ledger, put it on the channels of the article's plans, and compare it with the
    check before its series. Says what was done.

    A check belongs to the plan folders beside its own: where the check before them differs by more than the plan
    allows (limits of `change`, else half a decibel), the takes made between the two get an event `doubtful`. Raises
    BadInput for a check that is not valid or outside its limits.
    """
    reading = finding.reading("sensitivity")
    serial = take.plan().sensors[registry.get(finding.method).checks].serial
    if reading.value is None or not reading.valid or finding.verdict == "outside":
        why = reading.reason or "it lies outside its limits"
        raise BadInput(f"{take.name}: this check can't be accepted ({why}): do it again.")
    today = datetime.date.today()
    ledger = lab.ledger()
    entry = ledger.entry(serial)
    doubt = 100 * reading.uncertainty / reading.value if reading.uncertainty else None
    place = str(take.folder.resolve().relative_to(lab.folder.resolve()))
    ledger.append(
        serial,
        Calibration(
            today, reading.value, "mV/Pa", "check", finding.reading("tone_frequency").value, doubt,
            entry.last.certificate if entry.last else "", lab.facts.name, entry.due, finding.verdict, place, by,
        ),
    )  # fmt: skip
    ledger.close()
    _note(take, {"kind": "accepted", "by": by, "as_state": "check", "sensitivity": reading.value, "wall": time.time()})
    renew_sensor(lab, serial, take.folder.parent.parent)
    marked = _doubted(take, reading.value)
    said = f"Check of {serial} accepted: {reading.value:.4g} mV/Pa."
    if marked:
        said += f" It differs from the check before: {len(marked)} takes between the two are marked as doubtful."
    return said


def _note(take: Take, event: dict[str, Any]) -> None:
    with (take.folder / "events.jsonl").open("a", encoding="utf-8") as file:
        file.write(json.dumps(event) + "\n")


def _began(take: Take) -> float:
    """Wall time at which a take began."""
    return float(next((e["wall"] for e in take.events() if e["kind"] == "begin"), 0.0))


def _doubted(take: Take, now: float) -> list[Take]:
    """Takes of the article since its last accepted check, marked when that check differs too much from this one."""
    others = [t for t in list_takes(take.folder.parent.parent) if t.folder != take.folder]
    checks = []
    for other in others:
        said = [e for e in other.events() if e["kind"] == "accepted" and e.get("as_state") == "check"]
        if said and _began(other) < _began(take):
            checks.append((_began(other), float(said[-1]["sensitivity"])))
    if not checks:
        return []
    since, before = max(checks)
    change = 20 * math.log10(now / before)
    given = take.plan().step.settings.get("limits", {}).get("change", {})
    allowed = parse(given.get("high", "0.5 dB"), "dB", "limits.change.high")
    if abs(change) <= allowed:
        return []
    marked = [t for t in others if since < _began(t) < _began(take) and not registry.get(t.plan().step.method).checks]
    for one in marked:
        why = f"the microphone's checks before and after differ by {change:+.2f} dB, {allowed:g} dB allowed"
        _note(one, {"kind": "doubtful", "why": why, "check": str(take.folder.name)})
    return marked
