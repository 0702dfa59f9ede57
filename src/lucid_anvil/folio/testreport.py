"""A test report of any take that is not a calibration: what was tested, how, against what, and what came of it."""

from __future__ import annotations

import datetime
from typing import Any

from ..contracts import registry
from ..contracts.finding import Finding, Reading
from ..core.figures import figure, fitting, limit_text
from ..core.quantities import round_to_doubt
from ..engine.evaluating import unfinished
from ..lab.place import Lab
from ..lab.takes import Take
from .certificate import RULES, VERDICT_WORDS, rig_name, sides
from .plots import view_svg

INCOMPLETE = {
    "outside": "outside the tolerance in what there is; the test is not complete",
    "open": "open: the test is not complete, so it can't be told",
}
MOST = 4
"""Pictures at most."""


def report_context(take: Take, finding: Finding, lab: Lab | None) -> dict[str, Any]:
    """All that the template `report.html` may use."""
    finding = finding.lacking(unfinished(take))  # also where it was kept before that was looked at
    plan, method = take.plan(), registry.get(finding.method)
    events = take.events()
    begin: dict[str, Any] = next((e for e in events if e["kind"] == "begin"), {})
    end: dict[str, Any] = next((e for e in reversed(events) if e["kind"] == "end"), {})
    when = datetime.datetime.fromtimestamp(begin["wall"]) if "wall" in begin else None
    pictures = [(v.title, view_svg(finding, v)) for v in method.views]
    status = take.status()
    return {
        "lab": lab.facts if lab else None,
        "plan": plan,
        "method": method.title,
        "take": take.name,
        "written": datetime.date.today().isoformat(),
        "tested": when.strftime("%Y-%m-%d %H:%M") if when else "",
        "duration": f"{float(end['t']):.0f} s" if "t" in end else "–",
        "temperature": begin.get("temperature"),
        "humidity": begin.get("humidity"),
        "rig_name": rig_name(take),
        "sensors": [{"role": role, "record": s} for role, s in plan.sensors.items()],
        "checks": [c for c in begin.get("checks", []) if c.get("by")],
        "notes_made": [(e["t"], e["text"]) for e in events if e["kind"] == "note"],
        "cut": take.reason() if status != "done" else None,
        "sheet": sheet_table(finding),
        "readings": [] if "sheet" in (finding.detail or {}) else [reading_row(r) for r in finding.readings],
        "missing": list(finding.missing),
        "verdict": finding.verdict,
        "verdict_words": VERDICT_WORDS[finding.verdict] if finding.complete else INCOMPLETE[finding.verdict],
        "rule": RULES[plan.step.settings.get("decision", "guarded")],
        "pictures": [(title, picture) for title, picture in pictures if picture is not None][:MOST],
        "notes": [*([f"Doubtful: {doubt}."] if (doubt := take.doubt()) else []), *finding.notes],
    }


def sheet_table(finding: Finding) -> dict[str, Any] | None:
    """A sheet as a table: columns, and rows of step, reading, what is published, and a cell a column; None without."""
    held = (finding.detail or {}).get("sheet")
    if held is None:
        return None
    rows, before, reasons = [], None, []
    for row in held["rows"]:
        cells = []
        for column in held["columns"]:
            cell = row["cells"].get(column)
            if cell is None:
                cells.append({"text": "", "verdict": "none"})
                continue
            text = "–"
            if cell["value"] is not None:
                text = figure(cell["value"], cell["uncertainty"], row["unit"])
            elif cell["interval"] and cell["interval"][0] is not None:
                text = f"> {figure(cell['interval'][0], None, row['unit'])}"
            if not cell["valid"]:
                reasons.append(f"{row['step']}, {column}: {cell['reason']}.")
            cells.append({"text": text, "verdict": cell["verdict"] if cell["valid"] else "open"})
        step = "" if row["step"] == before else row["step"]
        before = row["step"]
        rows.append({"step": step, "reading": row["reading"], "cells": cells,
                     "limits": limit_text(row["low"], row["high"], row["unit"])})  # fmt: skip
    return {"columns": held["columns"], "rows": rows, "reasons": list(dict.fromkeys(reasons))}


def reading_row(r: Reading) -> dict[str, str]:
    """A reading with the digits that its doubt leaves; four at most where none is known."""
    scale, unit = fitting(r.value or 0.0, r.unit)
    u = r.uncertainty * scale if r.uncertainty else None
    return {
        "label": r.label,
        "value": "–" if r.value is None else round_to_doubt(r.value * scale, u),
        "uncertainty": round_to_doubt(u, u) if u else "",
        "unit": unit,
        "verdict": r.verdict if r.valid else "open",
        "reason": r.reason or "",
        "limits": sides(r.low, r.high, r.unit),
    }
