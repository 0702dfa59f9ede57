"""From a record to a finding: the pure half of the accelerometer comparison."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ..core.calibration.budget import LABELS, BudgetInputs, Source, entries, in_degrees
from ..core.calibration.comparison import Tone, ToneResult, measure_multisine, measure_series
from ..core.calibration.decision import verdict
from ..core.calibration.response import Response
from ..core.calibration.uncertainty import Budget, combine, of_ratio
from ..core.errors import BadInput
from ..core.quantities import factor, parse, same_kind, sensitivity_unit
from ..formats.recording import Channel, Floats
from ..lab.findings import Curve, Finding, Reading
from .accelerometer_comparison import CURVES, READINGS, ComparisonSettings, points
from .base import Limits, overload_limits, record_of

ASSUMED_REFERENCE_UNCERTAINTY = 1.0
"""%, k = 2, where none is stated."""


@dataclass(frozen=True)
class Prepared:
    """Two channels in base units and how a ratio becomes a sensitivity."""

    reference: Channel
    unit: Channel
    transverse: Channel | None
    response: Response | None
    """V or C per m/s²; None: the reference channel is an acceleration."""
    out_unit: str
    scale: float
    """Times ratio·response it is in `out_unit`."""
    limits: tuple[float | None, float | None]

    def read(self, start: float, stop: float) -> Floats:
        a, b = self.reference.between(start, stop), self.unit.between(start, stop)
        n = min(a.size, b.size)
        return np.array([a[:n], b[:n]])

    def covers(self, frequency: float) -> bool:
        return self.response is None or self.response.covers(frequency)

    def sensitivity(self, tone: ToneResult) -> float:
        """In `out_unit`."""
        s = self.response.at(tone.frequency) if self.response else 1.0
        return abs(tone.ratio) * s * self.scale


def prepare(record: Mapping[str, Channel], settings: ComparisonSettings) -> Prepared:
    """Channels in volts (or coulombs, or m/s²), checked against the settings. Raises BadInput."""
    held = record_of(record, settings)
    reference, unit = held["reference"], held["unit"]
    if reference.rate != unit.rate:
        raise BadInput(
            f"reference and unit are sampled at {reference.rate:g} and {unit.rate:g} Hz: one rate is needed."
        )
    for role, channel in (("reference", reference), ("unit", unit)):
        if not channel.unit:
            raise BadInput(f"the channel '{channel.label}' ({role}) states no unit: name it '{channel.label} [V]'.")
    response = settings.response()
    limits = overload_limits(held, settings, ("reference", "unit"))
    if same_kind(reference.unit, "m/s^2"):
        if response is not None:
            raise BadInput(
                f"the reference channel is in {reference.unit} already: leave its sensitivity out,"
                " or give the record in volts."
            )
        base = "m/s^2"
    else:
        if response is None:
            raise BadInput(
                f"the reference channel is in {reference.unit}: give reference_sensitivity or reference_response."
            )
        base = "V" if settings.reference_unit()[0] == "m" else "C"
        if not same_kind(reference.unit, base):
            raise BadInput(
                f"the reference channel is in {reference.unit}, which does not go with a sensitivity in"
                f" {settings.reference_unit()}."
            )
    if same_kind(unit.unit, "C"):
        own, out, scale = "C", "pC/(m/s²)", 1e12
    elif same_kind(unit.unit, "V"):
        own, out, scale = "V", "mV/(m/s²)", 1e3
        if settings.conditioner_gain is not None:
            out, scale = "pC/(m/s²)", 1e3 / settings.conditioner_gain
    else:
        raise BadInput(f"the unit channel is in {unit.unit}: volts or coulombs are needed.")
    by = (factor(reference.unit, base), factor(unit.unit, own))
    a, b = (None if v is None else v * f for v, f in zip(limits, by, strict=True))
    return Prepared(reference.in_unit(base), unit.in_unit(own), held.get("transverse"), response, out, scale, (a, b))


def _tones(settings: ComparisonSettings, marks: Sequence[Mapping[str, Any]]) -> list[Tone]:
    """Tones from the settings, else from the take's own marks; a tone taken again replaces the earlier one."""
    if settings.steps is not None:
        found = [Tone(s.frequency, s.start, s.stop) for s in settings.steps]
        names = [t.frequency for t in found]
        if len(set(names)) != len(names):
            raise BadInput("steps: a frequency stands there twice: leave one out.")
    else:
        by_frequency = {
            float(m["frequency"]): Tone(float(m["frequency"]), float(m["start"]), float(m["stop"]))
            for m in marks
            if m.get("kind") == "tone"
        }
        found = [by_frequency[f] for f in sorted(by_frequency)]
    return found


def _check_tones(tones: Sequence[Tone], channel: Channel, settings: ComparisonSettings) -> None:
    if not tones:
        raise BadInput("steps: none is given, and the record has no tones of its own: say where each tone stands.")
    for t in tones:
        if t.stop > channel.duration + 1.5 / channel.rate:
            raise BadInput(
                f"steps: the step at {t.frequency:g} Hz ends at {t.stop:g} s, but the record ends at"
                f" {channel.duration:.6g} s."
            )
        if t.frequency >= channel.rate / 2:
            raise BadInput(
                f"steps: {t.frequency:g} Hz can't be told at a rate of {channel.rate:g} Hz: stay below half of it."
            )
        if settings.settle is not None and settings.settle >= t.stop - t.start:
            raise BadInput(f"settle: {settings.settle:g} s is as long as the step at {t.frequency:g} Hz: shorten it.")
    if settings.reference_frequency is not None and not any(
        abs(t.frequency / settings.reference_frequency - 1) < 0.01 for t in tones
    ):
        raise BadInput(
            f"reference_frequency: {settings.reference_frequency:g} Hz is not among the steps: choose one of them."
        )


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


def transverse_ratio(prepared: Prepared, tone: ToneResult) -> float | None:
    """Transverse over axial motion at one tone; None where it was not recorded."""
    channel = prepared.transverse
    if channel is None or not tone.valid:
        return None
    from ..core.signal.sinefit import fit_tone

    x = channel.between(tone.start + tone.settle, tone.stop)
    sensitivity = float(channel.meta.get("sensitivity", 1.0)) * 1e-3
    if x.size / channel.rate * tone.frequency < 3:
        return None
    amplitude = abs(fit_tone(x, channel.rate, tone.fitted, refine=False, harmonics=2).phasors[0]) / sensitivity
    axial = tone.amplitude[0] / (prepared.response.at(tone.frequency) if prepared.response else 1.0)
    return float(amplitude / axial) if axial > 0 else None


def _measure(
    prepared: Prepared, settings: ComparisonSettings, marks: Sequence[Mapping[str, Any]], tones: list[Tone]
) -> list[ToneResult]:
    rate = prepared.reference.rate
    if tones:
        return measure_series(
            prepared.read, rate, tones, settle=settings.settle, limits=prepared.limits, mains=settings.mains_hz()
        )
    many = next((m for m in reversed(marks) if m.get("kind") == "multisine"), None)
    if settings.multisine is not None:
        many = settings.multisine.model_dump()
    assert many is not None
    period = int(round(float(many["period"]) * rate))
    try:
        return measure_multisine(
            prepared.read(many["start"], many["stop"]), rate, np.array(many["frequencies"]), period,
            many["start"], many["stop"],
        )  # fmt: skip
    except ValueError as problem:
        raise BadInput(f"multisine: {problem}.") from None


def take_out_gain(
    results: list[ToneResult], prepared: Prepared, marks: Sequence[Mapping[str, Any]]
) -> tuple[list[ToneResult], float | None]:
    """Divide by the gain ratio that an insert (one signal to both inputs) showed; and what doubt of it is left [%]."""
    insert = next((m for m in reversed(marks) if m.get("kind") == "insert"), None)
    if insert is None:
        return results, None
    rate = prepared.reference.rate
    period = int(round(float(insert["period"]) * rate))
    gains = measure_multisine(
        prepared.read(insert["start"], insert["stop"]), rate, np.array(insert["frequencies"]), period,
        insert["start"], insert["stop"], skip=0,
    )  # fmt: skip
    good = [g for g in gains if g.valid]
    if len(good) < len(gains):
        return results, None
    f = np.log([g.frequency for g in good])
    ratio = np.array([g.ratio for g in good])
    made = []
    for r in results:
        at = np.interp(np.log(r.frequency), f, ratio.real) + 1j * np.interp(np.log(r.frequency), f, ratio.imag)
        made.append(replace(r, ratio=r.ratio / complex(at)))
    return made, 100 * float(max(g.spread for g in good)) + 0.002


def measured(
    record: Mapping[str, Channel], settings: ComparisonSettings, marks: Sequence[Mapping[str, Any]]
) -> tuple[Prepared, list[ToneResult], float | None, dict[float, float | None]]:
    """The tones of one record: prepared channels, results, what an insert left of the gain ratio's doubt [%],
    and transverse over axial motion by frequency."""
    prepared = prepare(record, settings)
    tones = _tones(settings, marks)
    if settings.steps is None:  # after a kill the last second of a take may be missing
        end = prepared.reference.duration
        tones = [replace(t, stop=min(t.stop, end)) for t in tones if t.start < end]
    many = settings.multisine is not None or any(m.get("kind") == "multisine" for m in marks)
    if tones or not many:
        _check_tones(tones, prepared.reference, settings)
    results = _measure(prepared, settings, marks, tones)
    results, insert = take_out_gain(results, prepared, marks)
    sideways = {r.frequency: transverse_ratio(prepared, r) for r in results}
    results = [
        r if prepared.covers(r.frequency) or r.fault
        else replace(r, fault="outside the frequencies of the reference's calibration")
        for r in results
    ]  # fmt: skip
    return prepared, sorted(results, key=lambda r: r.frequency), insert, sideways


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
    return compile_finding(prepared, results, settings, insert, sideways)


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
            notes.append(f"{r.frequency:g} Hz: the repeats spread by {100 * r.spread:.2g} %, which is not small.")
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
    coverage: list[float] = []
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
        coverage.append(budget.coverage)
    turned = in_degrees_list(results, doubts, settings)
    low, high = _corridor(settings, limits, x)
    readings = _readings(prepared, results, settings, anchor, budgets, limits, base, deviation, deviation_u)
    points_said: tuple[str, ...] = ()
    if low is not None or high is not None:
        lows, highs = low or (None,) * len(x), high or (None,) * len(x)
        points_said = tuple(
            verdict(d, u, a, b, settings.decision, good)
            for d, u, a, b, good in zip(deviation, deviation_u, lows, highs, ok, strict=True)
        )
    k = max((budgets[f].coverage for f in budgets), default=None)
    k_dev = max(coverage, default=None)
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
    usable = [i for i, d in enumerate(deviation) if d is not None and results[i] is not anchor]
    if usable:
        i = max(usable, key=lambda i: abs(deviation[i] or 0.0))
        made.append(
            Reading(
                "deviation_max", f"Largest deviation, at {results[i].frequency:g} Hz", deviation[i], "%",
                deviation_u[i], 2.0,
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


__all__ = ["CURVES", "Prepared", "evaluate", "measured", "prepare"]
