"""Who a sensor says it is against who the ledger knows: matched by make, model and serial."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass

from ..formats.teds import DataSheet
from .ledger import Entry

MAKERS = {"Tidewrack": 4101, "Halvard & Roe": 4102, "Orrin": 4103, "Selkirk Bay": 4104}
"""Numbers of the demo lab's makers; a lab adds its own to its lab file."""
DIFFERENCE = 1.0
"""% by which data sheet and ledger may differ in sensitivity without a word."""


def number_of(text: str) -> int:
    """The number that stands for a model or serial in a data sheet: its digits."""
    digits = re.sub(r"\D", "", text)
    return int(digits) % (1 << 24) if digits else 0


@dataclass(frozen=True)
class Match:
    """What became of matching one sheet."""

    entry: Entry | None
    text: str
    """In a sentence's words; empty when all agrees"""
    difference: float | None = None
    """% that the sheet's sensitivity lies above the ledger's"""


def matching(sheet: DataSheet, entries: Iterable[Entry], makers: dict[str, int] | None = None) -> Match:
    """The ledger's sensor with the sheet's maker, model and serial, and whether their sensitivities agree."""
    known = {**MAKERS, **(makers or {})}
    b = sheet.basic
    for entry in entries:
        s = entry.sensor
        if (
            known.get(s.maker) == b.maker
            and number_of(s.model) % (1 << 15) == b.model
            and number_of(s.serial) == b.serial
        ):
            break
    else:
        maker = next((m for m, n in known.items() if n == b.maker), f"maker {b.maker}")
        return Match(None, f"{maker}, model {b.model}, serial {b.serial} is not in the ledger")
    said = sheet.values.get("sensitivity")
    if said is None or entry.last is None or not entry.last.unit.startswith("mV"):
        return Match(entry, "")
    difference = 100 * (1e3 * float(said) / entry.last.sensitivity - 1)
    if abs(difference) <= DIFFERENCE:
        return Match(entry, "", difference)
    text = (
        f"{entry.sensor.serial}: its data sheet says {1e3 * float(said):.4g} mV, the ledger"
        f" {entry.last.sensitivity:.4g} {entry.last.unit} ({difference:+.1f} %)"
    )
    return Match(entry, text, difference)
