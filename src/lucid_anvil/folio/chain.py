"""From a sensor that was found wrong to the papers that rest on it."""

from __future__ import annotations

import datetime
import math
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from ..core.errors import BadInput
from ..core.quantities import factor
from ..lab.ledger import Entry
from ..lab.place import Lab
from ..lab.plans import Plan, SensorRecord
from ..lab.takes import Take, open_take

FLOOR = 0.5
"""% that a sensor may differ by where neither calibration states its uncertainty"""
Stamp = tuple[int, int]


@dataclass(frozen=True)
class Grounds:
    """What a paper's place in a list needs of a take, read once while the take is the same."""

    stamp: Stamp
    verdict: str
    words: str
    """What it is found by: article, customer, sensors"""
    doubt: str | None
    wrong: tuple[str, ...] = ()
    """What was found off since, by the ledger as it was then"""


def stamp_of(folder: Path) -> Stamp:
    """Changes when the take does: what counts of it, and what happened."""
    counted, events = open_take(folder).counted(), folder / "events.jsonl"
    first, second = (p.stat().st_mtime_ns if p is not None and p.exists() else 0 for p in (counted, events))
    return first, second


def grounds_of(folder: Path, known: Mapping[str, Entry]) -> Grounds:
    """Read a take for a list. Raises BadInput where it can't be."""
    take, stamp = open_take(folder), stamp_of(folder)
    finding, plan = take.finding(), take.plan()
    words = " ".join([plan.article, plan.customer, *(s.serial for s in plan.sensors.values())])
    verdict = finding.verdict if finding is not None else "none"
    return Grounds(stamp, verdict, words, take.doubt(), tuple(found_wrong(take, known, plan)))


def known_sensors(lab: Lab) -> dict[str, Entry]:
    """The ledger's entries by serial. Raises BadInput where the ledger can't be had."""
    ledger = lab.ledger()
    try:
        return {e.sensor.serial: e for e in ledger.entries()}
    finally:
        ledger.close()


def found_wrong(take: Take, known: Mapping[str, Entry], plan: Plan | None = None) -> list[str]:
    """What a take was measured with and was found off since, a sentence each: the next calibration after it, as found,
    differs from the sensitivity that it used by more than both uncertainties together (root sum of squares, as
    JCGM 100, 5.1.2). The unit under calibration is what a take is about, and not among them. `plan`: the take's, where
    it is read already."""
    begun = next((e["wall"] for e in take.events() if e["kind"] == "begin" and "wall" in e), None)
    if begun is None:
        return []
    day = datetime.datetime.fromtimestamp(begun).date()
    made = []
    for role, used in (plan or take.plan()).sensors.items():
        entry = known.get(used.serial)
        if role != "unit" and entry is not None and used.sensitivity:
            said = _against(used, entry, day, take)
            if said:
                made.append(said)
    return made


def _against(used: SensorRecord, entry: Entry, day: datetime.date, take: Take) -> str | None:
    # Of calibrations on the very day none is known to be later; one that this take itself gave is none of its grounds.
    later = [c for c in entry.history if c.date > day and c.as_state == "as found"
             and c.certificate != used.certificate and c.take != str(take.folder)]  # fmt: skip
    if not later or used.sensitivity is None:
        return None
    found = later[0]
    try:
        change = 100 * (found.sensitivity * factor(found.unit, used.unit) / used.sensitivity - 1)
    except BadInput:
        return None
    own = next((c.uncertainty for c in entry.history if c.certificate == used.certificate), None)
    allowed = math.hypot(own or 0.0, found.uncertainty or 0.0) or FLOOR
    if abs(change) <= allowed:
        return None
    named = f" ({found.certificate})" if found.certificate else ""
    sign = "−" if change < 0 else "+"
    return f"{used.serial} was found {sign}{abs(change):.2g} % off on {found.date.isoformat()}{named}"
