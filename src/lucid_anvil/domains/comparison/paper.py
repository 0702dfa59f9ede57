"""The certificate of a comparison: a row a frequency, and what ISO/IEC 17025:2017, 7.8.2 to 7.8.4 ask for."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from ...contracts.finding import Finding
from ...contracts.paper import PaperKind
from ...core.quantities import round_to_doubt
from ...engine.evaluating import unfinished
from ...folio.certificate import head_of, reading_words
from ...folio.plots import curve_svg
from ...lab.ledger import Calibration
from ...lab.place import Lab
from ...lab.takes import Take


def context(take: Take, finding: Finding, lab: Lab | None, accepted: Calibration | None) -> dict[str, Any]:
    """All that the template may use."""
    finding = finding.lacking(unfinished(take))  # also where it was kept before that was looked at
    settings = take.plan().step.settings
    return {
        **head_of(take, finding, lab, accepted),
        "readings": [reading_words(r) for r in finding.readings],
        "rows": _rows(finding),
        "limits": settings.get("limits", {}).get("nominal_deviation", {}),
        "corridor": settings.get("corridor"),
        "coverage": _coverage(finding),
        "plot": curve_svg(finding.curve("deviation"), "deviation, %"),
        "reference_frequency": (finding.detail or {}).get("reference_frequency"),
        "notes": [n for n in finding.notes if "struck" in n or "spread" in n],
    }


def _rows(finding: Finding) -> list[dict[str, str]]:
    """The table: one row a frequency, with the digits that the doubt leaves."""
    sensitivity, deviation, phase = (finding.curve(k) for k in ("sensitivity", "deviation", "phase"))
    made = []
    points = {p["frequency"]: p for p in (finding.detail or {}).get("points", [])}
    for i, f in enumerate(sensitivity.x):
        row = {"frequency": f"{f:g}"}
        for name, curve in (("sensitivity", sensitivity), ("deviation", deviation), ("phase", phase)):
            y = curve.y[i]
            u = curve.uncertainty[i] if curve.uncertainty else None
            row[name] = "–" if y is None else round_to_doubt(y, u or None) if u else f"{y:.2g}" if y else "0"
            row[f"{name}_u"] = "–" if u is None else round_to_doubt(u, u) if u else "–"
        y, u = sensitivity.y[i], (sensitivity.uncertainty or (None,) * (i + 1))[i]
        row["relative_u"] = "–" if y is None or u is None else f"{100 * u / y:.2g}"
        row["fault"] = str(points.get(f, {}).get("fault") or "")
        made.append(row)
    return made


def _coverage(finding: Finding) -> str:
    factors = [b["coverage"] for b in (finding.detail or {}).get("budgets", [])]
    if not factors:
        return "k = 2"
    low, high = min(factors), max(factors)
    return f"k = {low:.2f}" if high - low < 0.01 else f"k = {low:.2f} to {high:.2f}"


PAPER = PaperKind(Path(__file__).parent / "templates" / "certificate.html", context)
