"""Accepting a finding: into the ledger, and out as a certificate."""

from __future__ import annotations

import datetime
import json
from dataclasses import replace

from ..lab import planning
from ..lab.findings import Finding
from ..lab.place import Lab
from ..lab.takes import Take
from .certificate import report


def accept_take(lab: Lab, take: Take, finding: Finding, as_state: str, by: str, wants_due: bool) -> str:
    """Append the finding to the ledger and write the certificate; the take notes that it was accepted.

    The plan in the take is left as it was; what was decided at acceptance is an event beside it.
    """
    today = datetime.date.today()
    number = planning.next_certificate(lab, today)
    ledger = lab.ledger()
    serial, calibration = planning.calibration_of(
        take, finding, date=today, certificate=number, by=by, lab=lab.facts.name, due=None
    )
    entry = ledger.entry(serial)
    months = entry.sensor.interval_months
    due = planning.add_months(today, months) if months else None
    ledger.append(serial, replace(calibration, as_state=as_state, due=due))
    ledger.close()
    event = {"kind": "accepted", "certificate": number, "by": by, "as_state": as_state, "due_on_certificate": wants_due}
    with (take.folder / "events.jsonl").open("a", encoding="utf-8") as file:
        file.write(json.dumps(event) + "\n")
    lab.certificates.mkdir(exist_ok=True)
    report(take, lab.certificates / f"{number}.pdf")
    return number
