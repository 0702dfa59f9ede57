"""From measured tones to a finding: readings, curves, budgets and verdicts."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from ...contracts.finding import Curve, Finding, Reading
from ...contracts.limits import Limits
from ...contracts.recording import Channel
from ...core.calibration.budget import LABELS, BudgetInputs, Source, entries, in_degrees
from ...core.calibration.comparison import ToneResult
from ...core.calibration.decision import verdict
from ...core.calibration.uncertainty import Budget, combine, of_ratio
from ...core.errors import BadInput
from ...core.figures import significant
from ...core.quantities import parse, sensitivity_unit
from .accelerometer_comparison import READINGS, ComparisonSettings, points
from .measure import Prepared, measured

ASSUMED_REFERENCE_UNCERTAINTY = 1.0
"""%, k = 2, where none is stated."""


def budget_inputs(settings: ComparisonSettings, notes: list[str], insert: float | None = None) -> BudgetInputs:
    """The budget's inputs from the settings."""
    if settings.reference_uncertainty is None:
        stated: tuple[tuple[float, float], ...] = ((160.0, ASSUMED_REFERENCE_UNCERTAINTY),)
        notes.append("No reference_uncertainty was given: 1 % (k = 2) is assumed.")
    else:
        stated = points(settings.reference_uncertainty, "reference_uncertainty")
    if any(v < 0 for _, v in stated):
        raise BadInput("reference_uncertainty: it can't be below zero.")
    reference = Source("reference", LABELS["reference"], stated, "normal k=2", settings.reference_correlation)
    sources = tuple(
        Source(
            s.source,
            s.label or LABELS.get(s.source, s.source),
            points(s.half_width, f"budget.{s.source}"),
            s.distribution,
            s.correlation,
        )
        for s in settings.budget
    )
    if not sources:
        notes.append("The doubt holds reference, noise, hum and distortion; no further sources were stated.")
    capability = None
    if settings.capability is not None:
        capability = Source("capability", "Declared capability", points(settings.capability, "capability"))
    share = settings.transverse_sensitivity
    return BudgetInputs(
        reference=reference,
        sources=sources,
        drift=settings.reference_drift,
        transverse_sensitivity=(share.get("reference", 0.0), share.get("unit", 0.0)),
        resolution=(settings.resolution.get("reference", 0.0), settings.resolution.get("unit", 0.0)),
        gain_ratio_known=insert,
        capability=capability,
    )


def evaluate(
    record: Mapping[str, Channel],
    settings: ComparisonSettings,
    marks: Sequence[Mapping[str, Any]],
    earlier: Sequence[tuple[Mapping[str, Channel], ComparisonSettings, Sequence[Mapping[str, Any]]]] = (),
) -> Finding:
    """The finding of a record. `earlier` are records of the same series, whose struck points this one replaces."""
    prepared, results, insert, sideways = measured(record, settings, marks)
    for other_record, other_settings, other_marks in earlier:
        _, old, _, old_sideways = measured(other_record, other_settings, other_marks)
        have = {r.frequency for r in results}
        results = sorted(results + [r for r in old if r.frequency not in have], key=lambda r: r.frequency)
        sideways = {**old_sideways, **sideways}
    told = any(m.get("kind") in ("tone", "multisine") for m in marks)
    asked = set((earlier[0][1] if earlier else settings).frequencies()) if told else set()
    wanted = settings.at_reference()
    if wanted in asked and all(abs(r.frequency / wanted - 1) > 1e-3 for r in results):
        # Not the nearest that there is: a series that was cut before it came there has no reference yet.
        results = [*results, replace(results[0], frequency=wanted, fault="it was not measured")]
        results.sort(key=lambda r: r.frequency)
    finding = compile_finding(prepared, results, settings, insert, sideways)
    if not told:
        return finding
    results = [r for r in results if r.fault != "it was not measured"]
    lacking = sorted(f for f in asked if all(abs(r.frequency / f - 1) > 1e-3 for r in results))
    if not lacking:
        return finding
    some = ", ".join(f"{f:g}" for f in lacking[:6]) + (", ..." if len(lacking) > 6 else "")
    return finding.lacking([f"{len(lacking)} of {len(asked)} frequencies ({some} Hz)"])


def _pick_reference(results: Sequence[ToneResult], settings: ComparisonSettings) -> ToneResult:
    wanted = settings.at_reference()
    return min(results, key=lambda r: abs(math.log(r.frequency / wanted)))


def compile_finding(
    prepared: Prepared,
    results: list[ToneResult],
    settings: ComparisonSettings,
    insert: float | None,
    sideways: Mapping[float, float | None],
) -> Finding:
    """Readings, curves and budgets from measured tones."""
    notes: list[str] = []
    given = budget_inputs(settings, notes, insert)
    units = {**READINGS, "sensitivity": prepared.out_unit, "deviation": "%"}
    if settings.nominal_sensitivity is None:
        units.pop("nominal_deviation")
    limits = Limits(settings.limits, units, settings.decision)
    anchor = _pick_reference(results, settings)
    if settings.reference_frequency is None and abs(anchor.frequency / 160.0 - 1) > 0.01:
        notes.append(f"The deviation refers to {anchor.frequency:g} Hz, the step nearest to 160 Hz.")
    for r in results:
        if r.fault:
            notes.append(f"{r.frequency:g} Hz struck: {r.fault}.")
        elif 100 * r.spread > 5 * settings.spread_wanted and 100 * r.spread > 0.1:
            spread = significant(100 * r.spread)
            notes.append(f"{r.frequency:g} Hz: the repeats spread by {spread} %, which is not small.")
    doubts = {
        r.frequency: entries(
            r,
            given,
            prepared.response.interpolation_doubt(r.frequency) if prepared.response else 0.0,
            sideways.get(r.frequency),
        )
        for r in results
        if r.valid
    }
    budgets = {f: combine(e, given.floor(f)) for f, e in doubts.items()}
    readings, curves, said = _tables(prepared, results, settings, given, anchor, doubts, budgets, limits)
    notes.append(
        "Uncertainties are expanded for a probability of 95.45 %, the coverage factor from the effective degrees"
        " of freedom (JCGM 100)."
    )
    detail = {
        "reference_frequency": anchor.frequency,
        "budgets": [_budget_row(f, budgets[f]) for f in sorted(budgets)],
        "points": [_point_row(r, sideways.get(r.frequency)) for r in results],
    }
    return Finding("accelerometer-comparison", readings, curves, (), tuple(notes), said, detail)


def _tables(
    prepared: Prepared,
    results: Sequence[ToneResult],
    settings: ComparisonSettings,
    given: BudgetInputs,
    anchor: ToneResult,
    doubts: Mapping[float, Any],
    budgets: Mapping[float, Budget],
    limits: Limits,
) -> tuple[tuple[Reading, ...], tuple[Curve, ...], tuple[str, ...]]:
    base = prepared.sensitivity(anchor) if anchor.valid else None
    x = tuple(r.frequency for r in results)
    ok = tuple(r.valid for r in results)
    value = tuple(prepared.sensitivity(r) if r.valid else None for r in results)
    value_u = tuple(
        v * budgets[r.frequency].expanded / 100 if v is not None else None for v, r in zip(value, results, strict=True)
    )
    deviation: list[float | None] = []
    deviation_u: list[float | None] = []
    coverage: dict[float, float] = {}
    for r, v in zip(results, value, strict=True):
        if v is None or base is None:
            deviation.append(None)
            deviation_u.append(None)
            continue
        if r is anchor:
            deviation.append(0.0)
            deviation_u.append(0.0)
            continue
        budget = of_ratio(doubts[r.frequency], doubts[anchor.frequency])
        deviation.append(100 * (v / base - 1))
        deviation_u.append(budget.expanded * v / base)
        coverage[r.frequency] = budget.coverage
    turned = in_degrees_list(results, doubts, settings)
    low, high = _corridor(settings, limits, x)
    readings = _readings(prepared, results, settings, anchor, budgets, limits, base, deviation, deviation_u, coverage)
    points_said: tuple[str, ...] = ()
    if low is not None or high is not None:
        lows, highs = low or (None,) * len(x), high or (None,) * len(x)
        points_said = tuple(
            verdict(d, u, a, b, settings.decision, good)
            for d, u, a, b, good in zip(deviation, deviation_u, lows, highs, ok, strict=True)
        )
    k = max((budgets[f].coverage for f in budgets), default=None)
    k_dev = max(coverage.values(), default=None)
    curves = (
        Curve("sensitivity", "Sensitivity", x, value, "Hz", prepared.out_unit, value_u, k, valid=ok),
        Curve(
            "deviation", f"Deviation from {anchor.frequency:g} Hz", x, tuple(deviation), "Hz", "%",
            tuple(deviation_u), k_dev, low, high, tuple(o and base is not None for o in ok),
        ),
        Curve("phase", "Phase, unit minus reference", x, turned[0], "Hz", "°", turned[1], k, valid=ok),
    )  # fmt: skip
    if not all(ok):
        points_said = (*points_said, "open")
    return readings, curves, points_said


def in_degrees_list(
    results: Sequence[ToneResult], doubts: Mapping[float, Any], settings: ComparisonSettings
) -> tuple[tuple[float | None, ...], tuple[float | None, ...]]:
    """Phase in (−180, 180] and its expanded uncertainty, both in degrees."""
    phase: list[float | None] = []
    doubt: list[float | None] = []
    for r in results:
        if not r.valid:
            phase.append(None)
            doubt.append(None)
            continue
        angle = math.degrees(math.atan2(r.ratio.imag, r.ratio.real))
        phase.append(180.0 if angle == -180.0 else angle)
        doubt.append(combine(in_degrees(doubts[r.frequency], settings.reference_phase_uncertainty)).expanded)
    return tuple(phase), tuple(doubt)


def _corridor(
    settings: ComparisonSettings, limits: Limits, x: Sequence[float]
) -> tuple[tuple[float | None, ...] | None, tuple[float | None, ...] | None]:
    """Limits of the deviation at each frequency, from `corridor` rows or the limits of `deviation`."""
    if settings.corridor:
        rows = [
            (parse(f, "Hz", "corridor"), parse(a, "%", "corridor"), parse(b, "%", "corridor"))
            for f, a, b in settings.corridor
        ]
        at = np.log([r[0] for r in rows])
        if np.any(np.diff(at) <= 0):
            raise BadInput("corridor: rows of [Hz, low, high] must rise in frequency.")
        return (
            tuple(float(v) for v in np.interp(np.log(x), at, [r[1] for r in rows])),
            tuple(float(v) for v in np.interp(np.log(x), at, [r[2] for r in rows])),
        )
    low, high = limits.sides("deviation")
    if (low, high) == (None, None):
        return None, None
    return (
        None if low is None else (low,) * len(x),
        None if high is None else (high,) * len(x),
    )


def _readings(
    prepared: Prepared,
    results: Sequence[ToneResult],
    settings: ComparisonSettings,
    anchor: ToneResult,
    budgets: Mapping[float, Budget],
    limits: Limits,
    base: float | None,
    deviation: Sequence[float | None],
    deviation_u: Sequence[float | None],
    coverage: Mapping[float, float],
) -> tuple[Reading, ...]:
    why = None if base is not None else f"{anchor.frequency:g} Hz, the reference frequency, was struck: {anchor.fault}"
    own = budgets.get(anchor.frequency)
    u = base * own.expanded / 100 if base is not None and own else None
    k = own.coverage if own else None
    made = [
        Reading(
            "sensitivity", f"Sensitivity at {anchor.frequency:g} Hz", base, prepared.out_unit, u, k,
            valid=base is not None, reason=why,
        )
    ]  # fmt: skip
    # With the reference frequency alone there is nothing to deviate; that is no fault.
    alone = len(results) == 1
    usable = [i for i, d in enumerate(deviation) if d is not None and (alone or results[i] is not anchor)]
    if usable:
        i = max(usable, key=lambda i: abs(deviation[i] or 0.0))
        made.append(
            Reading(
                "deviation_max", f"Largest deviation, at {results[i].frequency:g} Hz", deviation[i], "%",
                deviation_u[i], coverage.get(results[i].frequency),
            )
        )  # fmt: skip
    else:
        made.append(
            Reading(
                "deviation_max", "Largest deviation", None, "%", valid=False,
                reason=why or "no step beside the reference frequency could be used",
            )
        )  # fmt: skip
    if settings.nominal_sensitivity is not None:
        if sensitivity_unit(settings.nominal_sensitivity) != prepared.out_unit:
            raise BadInput(
                f"nominal_sensitivity: '{settings.nominal_sensitivity}' does not go with a sensor measured in"
                f" {prepared.out_unit}."
            )
        nominal = parse(settings.nominal_sensitivity, prepared.out_unit, "nominal_sensitivity")
        if nominal <= 0:
            raise BadInput("nominal_sensitivity: it must be above zero.")
        ratio = None if base is None else 100 * (base / nominal - 1)
        made.append(
            Reading(
                "nominal_deviation", "Deviation from nominal", ratio, "%",
                None if u is None else 100 * u / nominal, k, valid=base is not None, reason=why,
            )
        )  # fmt: skip
    return tuple(limits.judge(r) for r in made)


def _budget_row(frequency: float, budget: Budget) -> dict[str, Any]:
    return {
        "frequency": frequency,
        "combined": budget.combined,
        "dof": budget.dof if math.isfinite(budget.dof) else None,
        "coverage": budget.coverage,
        "expanded": budget.expanded,
        "floored": budget.floored,
        "dominant": budget.dominant.label if budget.entries else None,
        "entries": [
            {
                "key": e.key,
                "label": e.label,
                "half_width": e.half_width,
                "unit": e.unit,
                "distribution": e.distribution,
                "sensitivity": e.sensitivity,
                "contribution": e.contribution,
                "share": budget.share(e),
                "dof": e.dof if math.isfinite(e.dof) else None,
            }
            for e in sorted(budget.entries, key=lambda e: -e.contribution)
        ],
    }


def _point_row(r: ToneResult, sideways: float | None) -> dict[str, Any]:
    return {
        "frequency": r.frequency,
        "fault": r.fault,
        "amplitude": list(r.amplitude),
        "distortion": [100 * d for d in r.distortion],
        "transverse": None if sideways is None else 100 * sideways,
        "spread": 100 * r.spread,
        "settle": r.settle,
    }
