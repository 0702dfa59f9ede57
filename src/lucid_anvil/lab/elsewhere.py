"""A calibration made elsewhere: its value, doubt and table of points as the certificate states them."""

from __future__ import annotations

import datetime
import re
import shutil
from pathlib import Path

import numpy as np

from ..core.calibration.characteristic import characteristic
from ..core.errors import BadInput
from ..core.quantities import factor, parse, same_kind, split
from .ledger import Calibration, Sensor
from .place import Lab

_CELL = re.compile(r"[\t;]|\s{2,}|,(?=\s)|\s(?=[+-]?[\d.])")

WORDS = ("f", "frequency", "freq", "sensitivity", "s", "u", "uncertainty", "doubt", "expanded", "value", "force",
         "pressure", "step", "p", "output")  # fmt: skip
"""Headings that state no unit"""
STEPS = {"force sensor": "N", "load cell": "N", "pressure sensor": "Pa"}
"""Kinds of sensors that are calibrated step by step, and the unit of the steps"""


def by_steps(kind: str, held: Calibration) -> bool:
    """Whether the points of a sensor's calibration are steps of what it measures, and not frequencies."""
    return kind in STEPS and held.frequency is None


def points_from(text: str, unit: str, over: str = "Hz") -> list[tuple[float, float, float]]:
    """Rows of [Hz, sensitivity in `unit`, expanded uncertainty in %], rising, from a pasted table: frequency (or what
    else they stand over), sensitivity, and doubt in % (or in the sensitivity's unit, as the heading says). Decimal
    commas are read. A heading may state units; one that is not understood is refused. Raises BadInput naming the
    line."""
    first = "frequency" if over == "Hz" else "step"
    rows: list[tuple[float, float, float]] = []
    scales, relative = (1.0, 1.0, 1.0), True
    for number, line in enumerate(text.strip().splitlines(), start=1):
        if not line.strip():
            continue
        cells = [c.strip() for c in _CELL.split(line.strip()) if c.strip()]
        values = [_number(c) for c in cells]
        if all(v is None for v in values):
            if rows:
                raise BadInput(f"line {number}: '{line.strip()}' stands among the numbers: take it out.")
            scales, relative = _heading(cells, unit, number, over)
            continue
        if len(values) != 3 or any(v is None for v in values):
            raise BadInput(
                f"line {number}: '{line.strip()}': three numbers are wanted: {first}, sensitivity, doubt in %."
            )
        f, s, u = (float(v or 0.0) * k for v, k in zip(values, scales, strict=True))
        if f <= 0 or s <= 0 or u < 0:
            raise BadInput(f"line {number}: {first} and sensitivity must be above zero, and the doubt not below.")
        rows.append((f, s, u if relative else 100 * u / s))
    if not rows:
        raise BadInput(f"There is no row of numbers: paste {first}, sensitivity and doubt in %.")
    rows.sort()
    if np.any(np.diff([r[0] for r in rows]) <= 0):
        raise BadInput(f"Two rows have one {first}: take one of them out.")
    return rows


def _number(cell: str) -> float | None:
    try:
        made = float(cell.replace("−", "-").replace(",", "."))
    except ValueError:
        return None
    return made if np.isfinite(made) else None


def _heading(cells: list[str], unit: str, number: int, over: str) -> tuple[tuple[float, float, float], bool]:
    """What the columns are multiplied by, and whether the doubt is relative."""
    units = []
    for cell, wanted in zip(cells[:3], (over, unit, unit), strict=False):
        # A heading is a word that is known here, a unit, or both with the unit in brackets; nothing is assumed.
        bracketed = re.search(r"[\[(]\s*(.+?)\s*[\])]\s*$", cell)
        if re.sub(r"[^a-z]", "", cell.lower()) in WORDS:
            units.append("")
        elif same_kind(cell, wanted) or bracketed is None:
            units.append(cell)
        else:
            units.append(bracketed[1])
    units += [""] * (3 - len(units))
    made = []
    for name, wanted in zip(units[:2], (over, unit), strict=True):
        if name and not same_kind(name, wanted):
            raise BadInput(f"line {number}: the unit '{name}' is not one of {wanted}: mend the heading.")
        made.append(factor(name, wanted) if name else 1.0)
    relative = not units[2] or units[2] == "%"
    if not relative and not same_kind(units[2], unit):
        raise BadInput(f"line {number}: the doubt is in '{units[2]}': give it in % or in {unit}.")
    return (made[0], made[1], 1.0 if relative else factor(units[2], unit)), relative


def day(text: str, what: str) -> datetime.date:
    """A date as 2026-11-29 or 29.11.2026. Raises BadInput."""
    for form in ("%Y-%m-%d", "%d.%m.%Y"):
        try:
            return datetime.datetime.strptime(text.strip(), form).date()
        except ValueError:
            continue
    raise BadInput(f"{what}: '{text}' is no date: write it like 2026-11-29.")


def calibration_from(
    sensor: Sensor, value: str, date: str, lab: str, number: str, doubt: str = "", coverage: str = "2",
    frequency: str = "160 Hz", due: str = "", table: str = "",
) -> Calibration:  # fmt: skip
    """What was typed, as the ledger keeps it; the doubt is kept at k = 2. Raises BadInput for what can't be."""
    amount, unit = split(value)
    if not unit:
        raise BadInput(f"value: '{value}' has no unit: write it like '{amount:g} {sensor.unit}'.")
    sensitivity = parse(value, sensor.unit, "value")
    if not sensitivity > 0:
        raise BadInput("value: it must be above zero.")
    if not lab.strip() or not number.strip():
        raise BadInput("Give the laboratory and the certificate's number: the chain to the SI hangs on them.")
    made = day(date, "date")
    until = day(due, "due") if due.strip() else None
    if made > datetime.date.today():
        raise BadInput(f"date: {made} has not come yet.")
    if until is not None and until <= made:
        raise BadInput("due: it lies before the calibration.")
    expanded = None
    if doubt.strip():
        k = parse(coverage, "", "coverage factor")
        if not 1 <= k <= 4:
            raise BadInput("coverage factor: it is 2 as a rule, and from 1 to 4.")
        expanded = 2 / k * _percent(doubt, sensor.unit, sensitivity)
    steps = STEPS.get(sensor.kind)
    over = "Hz" if steps is None or re.search(r"\bk?Hz\b", table) else steps
    points = points_from(table, sensor.unit, over) if table.strip() else None
    at = parse(frequency, "Hz", "frequency") if frequency.strip() and over == "Hz" else None
    if steps is not None and points and over == "Hz" and at is None:
        # Without it the ledger would take its points for steps of force or pressure.
        raise BadInput("at: the table stands over frequency: say at which frequency the value holds, such as 160 Hz.")
    if points and over != "Hz":
        # What can't be turned round when a channel rests on it is refused while the certificate is at hand.
        strain = sensor.unit == "mV/V"
        characteristic([(x, y if strain else x * y) for x, y, _ in points])
    return Calibration(
        made, sensitivity, sensor.unit, "as found", at, expanded, number.strip(),
        lab.strip(), until, "none", "", "", None, points,
    )  # fmt: skip


def _percent(doubt: str, unit: str, sensitivity: float) -> float:
    """An uncertainty in % or in the sensitivity's unit, as %; which of them is never assumed."""
    amount, own = split(doubt)
    if not own:
        raise BadInput(f"uncertainty: '{doubt}' has no unit: write '{amount:g} %' or '{amount:g} {unit}'.")
    if not amount > 0:
        raise BadInput("uncertainty: it must be above zero.")
    return parse(doubt, "%", "uncertainty") if own == "%" else 100 * parse(doubt, unit, "uncertainty") / sensitivity


def keep_paper(lab: Lab, number: str, paper: Path) -> Path:
    """A copy of the certificate beside the lab's own papers; one that is there is not written over. Raises BadInput."""
    folder = lab.certificates / "elsewhere"
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as problem:
        raise BadInput(f"{folder}: it can't be made ({problem.strerror}).") from None
    name = re.sub(r"[^\w.-]+", "-", number) or "certificate"
    place = folder / f"{name}{paper.suffix.lower()}"
    count = 2
    while place.exists():
        place = folder / f"{name}-{count}{paper.suffix.lower()}"
        count += 1
    try:
        shutil.copyfile(paper, place)
    except OSError as problem:
        raise BadInput(f"{paper}: it can't be kept ({problem.strerror}).") from None
    return place
