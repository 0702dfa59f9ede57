"""The certificate of a calibration step by step: a row a step, the class, what it rests on (ISO/IEC 17025, 7.8.4)."""

from __future__ import annotations

import math
from typing import Any

from ..contracts import registry
from ..contracts.finding import Finding, Reading
from ..core.errors import BadInput
from ..core.quantities import round_to_doubt
from ..engine.evaluating import unfinished
from ..lab.ledger import Calibration
from ..lab.place import Lab
from ..lab.takes import Take
from .certificate import head_of, reading_words
from .plots import view_svg


def context(take: Take, finding: Finding, lab: Lab | None, accepted: Calibration | None) -> dict[str, Any]:
    """All that the template may use. Raises BadInput where unit or reference are not named."""
    finding = finding.lacking(unfinished(take))
    head = head_of(take, finding, lab, accepted)
    method, unit = registry.get(finding.method), head["unit"]
    detail = finding.detail or {}
    table = detail.get("table") or {"heads": [], "rows": []}
    try:
        found = method.calibration(finding, unit.unit)
    except BadInput:
        found = None
    value = doubt = None
    if found is not None:
        u = None if found.uncertainty is None else found.value * found.uncertainty / 100
        value, doubt = round_to_doubt(found.value, u), None if u is None else round_to_doubt(u, u)
    pictures = [(v.title, view_svg(finding, v)) for v in method.views]
    return {
        **head,
        "what": unit.kind[:1].upper() + unit.kind[1:],
        "method": method.standard or method.title,
        "value": value,
        "value_u": doubt,
        "value_unit": found.unit if found else "",
        "value_at": found.at if found else "",
        "readings": [_words(r) for r in finding.readings if r.key != "sensitivity"],
        "heads": [(h.partition(", ")[0], h.partition(", ")[2]) for h in table["heads"]],
        "rows": _cells(table["heads"], table["rows"]),
        "polynomial": _polynomial(detail.get("polynomial") or []),
        "pictures": [(title, picture) for title, picture in pictures if picture is not None],
        "notes": list(finding.notes),
    }


def _cells(heads: list[str], rows: list[list[Any]]) -> list[list[str]]:
    """Each column with as many decimals as its largest value has six digits for; percentages with three."""
    columns = []
    for head, column in zip(heads, zip(*rows, strict=True), strict=True):
        numbers = [abs(v) for v in column if isinstance(v, float) and v]
        whole = all(float(v).is_integer() for v in numbers)
        most = max(numbers, default=1.0)
        decimals = 3 if "%" in head else 0 if whole else max(0, 5 - math.floor(math.log10(most)))
        columns.append([_cell(v, decimals) for v in column])
    return [list(row) for row in zip(*columns, strict=True)]


def _cell(value: Any, decimals: int) -> str:
    if value is None:
        return "–"
    if not isinstance(value, float):
        return str(value)
    said = f"{value:.{decimals}f}"
    return said.removeprefix("-") if float(said) == 0 else said.replace("-", "−")


def _words(reading: Reading) -> dict[str, str]:
    """A reading for the page; a class is a name, and what was not measured says so."""
    made = reading_words(reading)
    if reading.value is None:
        return {**made, "value": "not measured", "unit": ""}
    if reading.key == "class":
        name = "00" if reading.value == 0 else f"{reading.value:g}"
        return {**made, "label": "Class of ISO 376", "value": name, "uncertainty": "–"}
    return made


def _polynomial(coefficients: list[float]) -> str:
    powers = ("F", "F²", "F³", "F⁴", "F⁵", "F⁶", "F⁷", "F⁸", "F⁹")
    return " + ".join(f"{c:.7g}·{p}" for c, p in zip(coefficients, powers, strict=False)).replace("+ -", "− ")
