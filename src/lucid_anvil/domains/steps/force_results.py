"""What a force comparison shows while it runs, and what its finding leaves for papers and the Ledger."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from ...contracts.finding import Finding
from ...contracts.method import Calibrated
from ...contracts.recording import Floats
from ...core.errors import BadInput
from ...core.quantities import parse
from ...core.steps import force

if TYPE_CHECKING:
    from .force_comparison import ForceSettings


def most(values: Floats | None) -> float | None:
    """The largest magnitude."""
    if values is None or not np.isfinite(values).any():
        return None
    return float(np.nanmax(np.abs(values)))


def so_far(steps: list[dict[str, Any]], settings: ForceSettings) -> dict[str, Any]:
    """Errors of the steps read so far against a straight line, and the class that whole series would have now."""
    curves: dict[str, list[list[float]]] = {}
    zeros: dict[int, tuple[float, float]] = {}
    rows: list[tuple[int, float, bool, float]] = []
    for s in steps:
        if s["nominal"] == 0:
            if s["direction"] == "up":
                zeros[s["series"]] = (s["reference"], s["unit"])
            continue
        r0, u0 = zeros[s["series"]]
        if s["reference"] == r0:
            continue
        value = (s["unit"] - u0) * s["nominal"] / (s["reference"] - r0)
        rows.append((s["series"], s["nominal"], s["direction"] == "up", value))
    if not rows:
        return {}
    slope = sum(v * f for _, f, _, v in rows) / sum(f * f for _, f, _, _ in rows)
    for number, f, rising, value in rows:
        name = f"series {number}{'' if rising else ' falling'}"
        x, y = curves.setdefault(name, [[], []])
        x.append(f)
        y.append(value - slope * f)
    return {"curves": {"error": curves}, "units": {"error": "V"}, "shown": _class_so_far(rows, steps, settings)}


def _class_so_far(
    rows: list[tuple[int, float, bool, float]], steps: list[dict[str, Any]], settings: ForceSettings
) -> dict[str, str]:
    position = {s["series"]: s["position"] for s in steps}
    made = []
    for number in dict.fromkeys(n for n, *_ in rows):
        up = {f: v for n, f, rising, v in rows if n == number and rising}
        down = {f: v for n, f, rising, v in rows if n == number and not rising}
        made.append(force.Series(number, position[number], up, down, None))
    top = max(f for _, f, _, _ in rows)
    whole = [s for s in made if top in s.up]
    if not whole or len(whole[0].up) <= settings.fit_order:
        return {}
    found = force.characterise(whole, settings.fit_order)
    figures = {
        k: most(getattr(found, k)) for k in ("repeatability", "reproducibility", "interpolation", "reversibility")
    }
    figures["reference_uncertainty"] = settings.reference_uncertainty
    best = force.class_of(figures)
    shown = {"Class so far": "worse than 2" if best is None else "00" if best == 0 else f"{best:g}"}
    better = force.CLASSES[force.better_than(best)]
    for k in force.costs(figures, best):
        wanted = dict(zip(force.NAMES, better, strict=True))[k]
        shown[k.replace("_", " ").capitalize()] = f"{figures[k]:.2g} %, better: {wanted:g} %"
    return shown


def table_of(found: force.Characteristics, own: str) -> dict[str, Any]:
    """A row a step, as a certificate has it."""
    columns = [found.nominal, found.mean, found.fitted, found.reproducibility, found.repeatability,
               found.interpolation, found.reversibility]  # fmt: skip
    heads = ["Force, N", f"Mean reading, {own}", f"Polynomial, {own}", "Reproducibility, %", "Repeatability, %",
             "Interpolation, %", "Reversibility, %"]  # fmt: skip
    held = [(h, c) for h, c in zip(heads, columns, strict=True) if c is not None]
    rows = [[None if not np.isfinite(c[i]) else float(c[i]) for _, c in held] for i in range(found.nominal.size)]
    return {"heads": [h for h, _ in held], "rows": rows}


def calibrated(finding: Finding, unit: str) -> Calibrated:
    """What a ledger keeps: mV per newton; of a strain gauge in mV/V its output at the highest step. Raises BadInput."""
    reading = finding.reading("sensitivity")
    table = (finding.detail or {}).get("table")
    if reading.value is None or not reading.valid or not table:
        raise BadInput(f"the sensitivity was not measured ({reading.reason or 'no step was read'}).")
    own = reading.unit.removesuffix("/N")
    rows, top = table["rows"], float(table["rows"][-1][0])
    doubt = None if not reading.uncertainty else 100 * reading.uncertainty / reading.value
    strain = unit == "mV/V"
    if strain and own != "mV/V":
        raise BadInput(f"the unit was read in {own}: give its amplifier ('amplifier: 5 V/(mV/V)') to have mV/V.")
    by = 1.0 if strain else parse(f"1 {own}/N", unit, "sensitivity")
    values = [abs(float(x)) if strain else abs(float(x) / float(f)) * by for f, x, *_ in rows]
    held = None if doubt is None else [[float(r[0]), v, doubt] for r, v in zip(rows, values, strict=True)]
    return Calibrated(values[-1] if strain else reading.value * by, unit, doubt, held, f"at {top:g} N")
