"""From a record to measured tones: channels prepared, tones found, ratios taken."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ...contracts.method import overload_limits, record_of
from ...contracts.recording import Channel, Floats
from ...core.calibration.comparison import Tone, ToneResult, measure_multisine, measure_series
from ...core.calibration.response import Response
from ...core.errors import BadInput
from ...core.quantities import factor, same_kind
from .accelerometer_comparison import ComparisonSettings


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


def _kind_of(unit: str, among: tuple[str, ...]) -> str | None:
    """The first of some units that measures the same kind of quantity; None when none does."""
    return next((u for u in among if same_kind(unit, u)), None)


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
    base = _kind_of(reference.unit, ("V", "C", "m/s^2"))
    if base == "m/s^2":
        if response is not None:
            raise BadInput(
                f"the reference channel is in {reference.unit} already: leave its sensitivity out,"
                " or give the record in volts."
            )
    elif response is None:
        raise BadInput(
            f"the reference channel is in {reference.unit}: give reference_sensitivity or reference_response."
        )
    elif base != ("V" if settings.reference_unit()[0] == "m" else "C"):
        raise BadInput(
            f"the reference channel is in {reference.unit}, which does not go with a sensitivity in"
            f" {settings.reference_unit()}."
        )
    own = _kind_of(unit.unit, ("V", "C"))
    if own == "C":
        out, scale = "pC/(m/s²)", 1e12
    elif own == "V":
        out, scale = "mV/(m/s²)", 1e3
        if settings.conditioner_gain is not None:
            out, scale = "pC/(m/s²)", 1e3 / settings.conditioner_gain
    else:
        raise BadInput(f"the unit channel is in {unit.unit}: volts or coulombs are needed.")
    assert base is not None
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
    if (
        settings.steps is not None
        and settings.reference_frequency is not None
        and not any(abs(t.frequency / settings.reference_frequency - 1) < 0.01 for t in tones)
    ):
        raise BadInput(
            f"reference_frequency: {settings.reference_frequency:g} Hz is not among the steps: choose one of them."
        )


def transverse_ratio(prepared: Prepared, tone: ToneResult) -> float | None:
    """Transverse over axial motion at one tone; None where it was not recorded."""
    channel = prepared.transverse
    if channel is None or not tone.valid or "sensitivity" not in channel.meta:
        return None
    from ...core.signal.sinefit import fit_tone

    x = channel.between(tone.start + tone.settle, tone.stop)
    sensitivity = float(channel.meta["sensitivity"]) * 1e-3
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
