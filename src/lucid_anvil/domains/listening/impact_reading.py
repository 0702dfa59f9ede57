"""Reading an impact test from its record: hits sorted, averaged, modes fitted."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from ...contracts.finding import Curve, Finding, Reading
from ...contracts.limits import Limits
from ...contracts.method import overload_limits, record_of
from ...contracts.recording import Channel
from ...core.calibration.uncertainty import coverage_factor
from ...core.errors import BadInput
from ...core.quantities import factor, parse, same_kind
from ...core.signal.impact import FrfEstimate, Hit, excited_up_to, frf_of, hits_of
from ...core.signal.mobility import against
from ...core.signal.modes import Mode, find_modes, without_window
from ...core.signal.sinefit import Complexes, Floats
from .impact_points import stretches_of, with_points
from .impact_response import ImpactSettings

UNITS = {"hits_accepted": "", "hits_rejected": "", "usable_to": "Hz", "against": ""}
LEFT = 0.02
"""Share of its peak that a response may still have at the end of its block without a word."""
DROP = 20.0
"""dB below its highest value to which the force spectrum is used for modes (ISO 7626-5, 6.2)."""


def in_unit(channel: Channel, sensitivity: object, unit: str, role: str) -> Channel:
    """A channel in `unit`, from volts by its sensitivity (mV per `unit`) or as its record states. Raises BadInput."""
    if sensitivity is not None:
        if not same_kind(channel.unit or "?", "V"):
            raise BadInput(f"the {role} channel is in '{channel.unit}' already: leave {role}_sensitivity out.")
        volts = channel.in_unit("V")
        return volts.in_unit(unit, 1e3 / parse(sensitivity, f"mV/({unit})", f"{role}_sensitivity"))
    if not same_kind(channel.unit or "?", unit):
        raise BadInput(f"the {role} channel is in '{channel.unit}': give {role}_sensitivity, or a record in {unit}.")
    return channel.in_unit(unit)


def evaluate(
    record: Mapping[str, Channel], settings: ImpactSettings, marks: Sequence[Mapping[str, Any]] = ()
) -> Finding:
    """The finding. Of a take the trial hits before its ranges stood are left out, its trigger and what a person
    overruled are taken on. Raises BadInput where channels, block and settings do not go together."""
    held = record_of(record, settings)
    ranged = [m for m in marks if m["kind"] == "ranged"]
    begin = float(ranged[-1]["t"]) if ranged else 0.0
    if ranged:
        settings = settings.model_copy(update={"input_range": dict(ranged[-1]["ranges"])})
    triggers = [m for m in marks if m["kind"] == "trigger"]
    taken = [float(m["t"]) for m in marks if m["kind"] == "overrule"]
    ranges = _ranges(held, settings)
    force = in_unit(held["force"], settings.force_sensitivity, "N", "force")
    response = in_unit(held["response"], settings.response_sensitivity, "m/s^2", "response")
    rate = force.rate
    if response.rate != rate:
        raise BadInput(f"force and response are sampled at {rate:g} and {response.rate:g} Hz: one rate is needed.")
    if settings.block > force.length:
        raise BadInput(
            f"block: {settings.block} samples are more than the record has ({force.length}): make it smaller."
        )
    f, r = force.samples(), response.samples()
    n, first = min(f.size, r.size), int(begin * rate)
    f, r = f[first:n], r[first:n]
    if f.size < settings.block:
        raise BadInput("the record ends before the first whole block after its ranges were set: hit again.")
    f = f - np.median(f)
    sign = -1.0 if -f.min() > 2 * f.max() else 1.0
    before = int(settings.block * settings.pretrigger / 100)
    level = settings.trigger if settings.trigger is not None else 0.1 * float(np.max(np.abs(f)))
    if triggers:
        level = float(triggers[-1]["level"])

    def found_in(a: int, b: int) -> list[Hit]:
        found = hits_of(sign * f[a:b], r[a:b], level, settings.block, before, ranges)
        at = begin + a / rate
        return [
            Hit(h.start, h.trigger, h.peak)
            if h.start >= 0 and (i in settings.overrule or any(abs(at + h.trigger / rate - t) < 0.01 for t in taken))
            else h
            for i, h in enumerate(found, 1)
        ]

    points = stretches_of(marks, begin, begin + f.size / rate)
    if len(points) < 2:
        return _finding(f, r, rate, found_in(0, f.size), before, settings, begin)
    edges = [(round((a - begin) * rate), round((b - begin) * rate)) for _, a, b in points]
    made = [_frf(f[a:b], r[a:b], rate, _used(found_in(a, b), settings.hits)[0], before, settings) for a, b in edges[1:]]
    a, b = edges[0]
    whole = _finding(f[a:b], r[a:b], rate, found_in(a, b), before, settings, begin + a / rate)
    return with_points(whole, [name for name, _, _ in points], made)


def _frf(
    f: Floats, r: Floats, rate: float, good: list[Hit], before: int, settings: ImpactSettings
) -> FrfEstimate | None:
    """The response function of good hits, None when there are none."""
    if not good:
        return None
    pieces = ((f[h.start : h.start + settings.block], r[h.start : h.start + settings.block]) for h in good)
    return frf_of(pieces, rate, before, settings.estimator, settings.response_decay, settings.force_window)


def _ranges(held: Mapping[str, Channel], settings: ImpactSettings) -> tuple[float | None, float | None]:
    """Where the inputs overload, in N and m/s²."""
    limits = overload_limits(held, settings, ("force", "response"))
    made: list[float | None] = []
    for role, unit, given, limit in (
        ("force", "N", settings.force_sensitivity, limits[0]),
        ("response", "m/s^2", settings.response_sensitivity, limits[1]),
    ):
        if limit is None:
            made.append(None)
        elif given is not None:
            volts = limit * factor(held[role].unit, "V")
            made.append(abs(1e3 * volts / parse(given, f"mV/({unit})", f"{role}_sensitivity")))
        else:
            made.append(limit * factor(held[role].unit, unit))
    return made[0], made[1]


def _used(found: list[Hit], wanted: int | None) -> tuple[list[Hit], list[tuple[int, Hit]]]:
    """Good hits as many as wanted, and those put aside up to the last one needed, with their numbers."""
    good: list[Hit] = []
    aside: list[tuple[int, Hit]] = []
    for number, h in enumerate(found, 1):
        if h.fault is not None:
            aside.append((number, h))
            continue
        good.append(h)
        if wanted is not None and len(good) == wanted:
            break
    return good, aside


def _finding(
    f: Floats, r: Floats, rate: float, found: list[Hit], before: int, settings: ImpactSettings, begin: float
) -> Finding:
    good, aside = _used(found, settings.hits)
    notes = [f"Hit {number} at {begin + h.trigger / rate:.2f} s put aside: {h.fault}." for number, h in aside]
    enough = settings.hits is None or len(good) >= settings.hits
    short = None if enough else f"{len(good)} good hits of {settings.hits} wanted"
    counts = [
        Reading(
            "hits_accepted", "Good hits", float(len(good)), "", 0.0, 2.0, valid=enough and bool(good), reason=short
        ),
        Reading("hits_rejected", "Hits put aside", float(len(aside)), "", 0.0, 2.0),
    ]
    if not good:
        why = "there is no good hit" if found else "no force reached the trigger"
        counts[0] = Reading("hits_accepted", "Good hits", 0.0, "", valid=False, reason=why)
        limits = Limits(settings.limits, {**UNITS, **_mode_units(settings, 0)}, settings.decision)
        return Finding(
            "impact-response", tuple(limits.judge(c) for c in counts), notes=(*notes, f"{why.capitalize()}.")
        )
    made = _frf(f, r, rate, good, before, settings)
    assert made is not None
    usable = excited_up_to(made.frequency, made.force, DROP)
    shift = 1 / settings.response_decay if settings.response_decay else 0.0
    modes = find_modes(made.frequency, made.response, made.gain_error, shift=shift, stop=usable)
    free = without_window(made.frequency, made.response, modes, shift, made.gain_error, usable)
    notes += _notes(made, settings, usable)
    if short:
        notes.append(f"{short.capitalize()}: hit again.")
    readings = [*counts, *_mode_readings(modes), Reading("usable_to", "Excited up to", usable, "Hz")]
    if settings.driving_point:
        wrong = against(made.frequency, free, [m.frequency for m in modes])
        at = ", ".join(f"{f:.4g} Hz" for f in wrong)
        off = f"no driving point: the modes at {at} move against the hammer" if wrong else None
        readings.append(
            Reading("against", "Modes against the hammer", float(len(wrong)), "", valid=not wrong, reason=off)
        )
        notes += (
            [f"{off.capitalize()}: hammer and sensor are not at one place, or one counts the other way."] if off else []
        )
    missing = [k for k in settings.limits if k.startswith("mode") and k not in {x.key for x in readings}]
    readings += [Reading(k, k, None, _unit_of(k), valid=False, reason="there is no such mode") for k in missing]
    units = {**UNITS, **_mode_units(settings, len(modes))}
    limits = Limits(settings.limits, units, settings.decision)
    return Finding(
        "impact-response", tuple(limits.judge(x) for x in readings), tuple(_curves(made, free)), notes=tuple(notes),
        detail={"hits": [{"t": begin + h.trigger / rate, "peak": h.peak, "fault": h.fault} for h in found]},
        missing=(f"{len(good)} of {settings.hits} good hits",) if settings.hits and len(good) < settings.hits else (),
    )  # fmt: skip


def _unit_of(key: str) -> str:
    return "Hz" if key.endswith("frequency") else "%"


def _mode_units(settings: ImpactSettings, count: int) -> dict[str, str]:
    """Units of the modes' readings, those that limits name among them."""
    names = {f"mode{i}_{what}" for i in range(1, max(count, 1) + 1) for what in ("frequency", "damping")}
    names |= {k for k in settings.limits if k.startswith("mode") and k.rpartition("_")[2] in ("frequency", "damping")}
    return {k: _unit_of(k) for k in sorted(names)}


def _mode_readings(modes: list[Mode]) -> list[Reading]:
    made = []
    for i, m in enumerate(modes, 1):
        made.append(Reading(f"mode{i}_frequency", f"Mode {i}", m.frequency, "Hz", 2 * m.frequency_error, 2.0))
        made.append(Reading(f"mode{i}_damping", f"Damping of mode {i}", m.damping, "%", 2 * m.damping_error, 2.0))
    return made


def _notes(made: FrfEstimate, settings: ImpactSettings, usable: float) -> list[str]:
    notes = [
        f"The force spectrum is within {DROP:g} dB of its highest value up to {usable:.0f} Hz; modes are sought there."
    ]
    if made.coherence is None:
        notes.append("One hit only: coherence, and the doubt of the response, can't be told.")
    if made.left > LEFT:
        notes.append(
            f"The response has not died out: {100 * made.left:.0f} % of its peak is left at the end of the block:"
            " make the block longer or set response_decay."
        )
    if settings.response_decay is not None:
        notes.append(
            f"Exponential window of {settings.response_decay:g} s: its damping is taken off the modes, and the response"
            " is made anew without it."
        )
    return notes


def _curves(made: FrfEstimate, free: Complexes) -> list[Curve]:
    x = tuple(made.frequency[1:])
    magnitude = np.abs(free)[1:]
    k = coverage_factor(2 * made.count - 2)  # two a hit, less the two of the response itself
    doubt = None if made.gain_error is None else tuple(k * made.gain_error[1:] * magnitude)
    phase = np.degrees(np.angle(free[1:]))
    turn = None
    if made.gain_error is not None:
        turn = tuple(np.degrees(k * np.arctan(made.gain_error[1:])))
    unit = "(m/s²)/N"
    curves = [
        Curve("frf_magnitude", "Accelerance", x, tuple(magnitude), "Hz", unit, doubt, 2.0 if doubt else None),
        Curve(
            "frf_phase",
            "Phase",
            x,
            tuple(np.where(phase <= -180, 180.0, phase)),
            "Hz",
            "deg",
            turn,
            2.0 if turn else None,
        ),
    ]
    if made.coherence is not None:
        curves.append(Curve("coherence", "Coherence", x, tuple(made.coherence[1:]), "Hz", ""))
    curves.append(Curve("force_spectrum", "Force spectrum", x, tuple(made.force[1:]), "Hz", "N·s"))
    return curves
