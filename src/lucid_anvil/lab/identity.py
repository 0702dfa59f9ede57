"""Who a sensor says it is against who the ledger knows: matched by make, model and serial."""

from __future__ import annotations

import datetime
import re
from collections.abc import Iterable
from dataclasses import dataclass

from ..core.errors import BadInput
from ..formats.teds import DataSheet, decode
from .ledger import Calibration, Ledger, Sensor
from .plans import SensorRecord

MAKERS = {"Tidewrack": 4101, "Halvard & Roe": 4102, "Orrin": 4103, "Selkirk Bay": 4104}
"""Numbers of the demo lab's makers, as they stand in a sheet's basic data."""
DIFFERENCE = 1.0
"""% by which data sheet and ledger may differ in sensitivity without a word."""


def number_of(text: str) -> int:
    """The number that stands for a model or serial in a data sheet: its digits."""
    digits = re.sub(r"\D", "", text)
    return int(digits) % (1 << 24) if digits else 0


@dataclass(frozen=True)
class Match:
    """What became of matching one sheet."""

    record: SensorRecord | None
    text: str
    """What is to be said; empty when all agrees"""
    difference: float | None = None
    """% that the sheet's sensitivity lies above the record's"""


def same(sheet: DataSheet, record: SensorRecord) -> bool:
    """Whether maker, model and serial agree."""
    b = sheet.basic
    return (MAKERS.get(record.maker), number_of(record.model) % (1 << 15), number_of(record.serial)) == (
        b.maker, b.model, b.serial,
    )  # fmt: skip


def matching(sheet: DataSheet, records: Iterable[SensorRecord]) -> Match:
    """The record with the sheet's maker, model and serial, and whether their sensitivities agree."""
    record = next((r for r in records if same(sheet, r)), None)
    if record is None:
        b = sheet.basic
        maker = next((m for m, n in MAKERS.items() if n == b.maker), f"maker {b.maker}")
        return Match(None, f"{maker}, model {b.model}, serial {b.serial} is not known")
    said = sheet.values.get("sensitivity")
    if said is None or not record.sensitivity or not record.unit.startswith("mV"):
        return Match(record, "")
    difference = 100 * (1e3 * float(said) / record.sensitivity - 1)
    if abs(difference) <= DIFFERENCE:
        return Match(record, "", difference)
    text = (
        f"{record.serial}: its data sheet says {1e3 * float(said):.4g} mV, the ledger {record.sensitivity:.4g}"
        f" {record.unit} ({difference:+.1f} %)"
    )
    return Match(record, text, difference)


def judged(role: str, memory: str, wanted: SensorRecord | None, others: Iterable[SensorRecord]) -> str:
    """What is to be said of the sensor plugged in at a role, whose memory (hex) was read; empty when it is the one
    that the plan names and agrees with it."""
    try:
        sheet = decode(bytes.fromhex(memory))
    except BadInput as problem:
        return f"{role}: {problem}"
    if wanted is not None and same(sheet, wanted):
        found = matching(sheet, [wanted])
        return f"{role}: {found.text}" if found.text else ""
    found = matching(sheet, others)
    if found.record is not None:
        return f"{role}: {found.record.serial} is plugged in here, the plan says {wanted.serial if wanted else 'none'}"
    return f"{role}: {found.text}"


def take_in(ledger: Ledger, sheet: DataSheet, serial: str, today: datetime.date) -> str:
    """Enter what a sheet says: the sensor if the ledger lacks it, and its calibration. Its words for a person."""
    known = {e.sensor.serial: e for e in ledger.entries()}
    said = sheet.values.get("sensitivity")
    if said is None:
        raise BadInput(f"{serial}: its data sheet holds no sensitivity: enter the calibration by hand.")
    unit = {"force sensor": "mV/N", "microphone": "mV/Pa"}.get(sheet.kind, "mV/(m/s²)")
    value = 1e3 * float(said)
    if serial not in known:
        maker = next((m for m, n in MAKERS.items() if n == sheet.basic.maker), "")
        ledger.add(Sensor(serial, sheet.kind or "accelerometer", maker, str(sheet.basic.model), value, unit))
    date = sheet.values.get("calibrated") or today
    days = sheet.values.get("period")
    ledger.append(
        serial,
        Calibration(
            date, value, unit, "as found", sheet.values.get("reference_frequency") or 160.0, None, "data sheet",
            "from its data sheet", date + datetime.timedelta(days=int(days)) if days else None, "none", "",
            str(sheet.values.get("calibrated_by") or ""),
        ),
    )  # fmt: skip
    told = f"{serial}: {value:.4g} {unit} of {date} taken from its data sheet."
    last = known[serial].last if serial in known else None
    if last is not None and last.date > date:
        told = told[:-1] + f"; the newer calibration of {last.date} stays in force."
    return told
