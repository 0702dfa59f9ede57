"""Reading a replication from its record: how well each pass followed the target."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ...contracts.finding import Curve, Finding, Reading
from ...contracts.limits import Limits
from ...contracts.recording import Channel
from ...core.control import history
from ...core.control.replication import PassFigures, Target, band_of, compare, make_target
from ...core.signal.sinefit import Floats
from ...core.signal.spectra import averaged, frame_for
from .profiles import prepare_history
from .settings import ShakerSettings, control_roles, in_units
from .sine_reading import cut_time

READINGS = {
    "in_tolerance": "%", "rms_error": "%", "peak_error": "%", "spectrum_error": "dB", "level": "%", "passes": "",
    "control_peak": "m/s²", "drive_peak": "V",
}  # fmt: skip
TOLERANCE = 3.0
"""dB within which a line of the spectrum counts as in tolerance."""


@dataclass(frozen=True)
class PassRead:
    """One pass as read."""

    start: float
    """s, where the padded target begins in the record"""
    level: float
    """factor"""
    rung: bool
    figures: PassFigures
    wanted: Floats
    moved: Floats


def _control(record: Mapping[str, Channel], controls: list[str], start: int, length: int) -> Floats:
    """Mean of the control points, `length` samples from `start`, with zeros where the record has none."""
    made = np.zeros(length)
    a, b = max(start, 0), min(start + length, record[controls[0]].length)
    if b > a:
        made[a - start : b - start] = np.mean([record[r].samples(a, b) for r in controls], axis=0)
    return made


def _search(record: Mapping[str, Channel], controls: list[str], target: Target, settings: ShakerSettings) -> int:
    """Sample at which the padded target lies best in a record without marks, by correlation."""
    channel = record[controls[0]]
    a = int((settings.start or 0.0) * channel.rate)
    b = channel.length if settings.stop is None else int(settings.stop * channel.rate)
    y = np.mean([record[r].samples(a, b) for r in controls], axis=0)
    n = 1 << int(np.ceil(np.log2(y.size + target.wave.size)))
    lag = np.fft.irfft(np.fft.rfft(y - y.mean(), n) * np.conj(np.fft.rfft(target.wave, n)), n)
    k = int(np.argmax(lag))
    return a + (k if k < y.size else k - n)


def evaluate(given: Mapping[str, Channel], settings: ShakerSettings, marks: Sequence[Mapping[str, Any]]) -> Finding:
    """Error figures of every pass; the readings are of the last one at the highest level."""
    made, _ = prepare_history(settings.time(), Path("."))
    limits = Limits(settings.limits, {**READINGS, **{f"rms_error_{k}": "%" for k in range(1, 100)}}, settings.decision)
    record = in_units(given, settings)
    rest = [r for r in record if r != "drive" and record[r].rate == record["control"].rate]
    controls = control_roles(rest, settings.control)
    rate = record["control"].rate
    x = history.resample(made.after.acceleration, made.after.rate, rate)
    # A pass that a continued run finds its drive with again is none of the plan's.
    held = [m for m in marks if m.get("kind") == "history" and m.get("counted", True)]
    if held:
        band = (float(held[0]["band"][0]), float(held[0]["band"][1]))
    else:
        band = settings.control.band or band_of(x, rate, 1.0, 0.42 * min(rate, made.after.rate))
    target = make_target(x, rate, band, 64)
    reads: list[PassRead] = []
    if held:
        for m in held:
            start = int(round((float(m["t"]) + float(m["offset"])) * rate)) - target.offset
            over = min(cut_time(marks, np.inf) * rate, record["control"].length)
            if start + target.offset + target.length <= over:
                reads.append(
                    _read(record, controls, start, 10 ** (float(m["level"]) / 20), bool(m.get("rung")), target)
                )
    else:
        reads.append(_read(record, controls, _search(record, controls, target, settings), 1.0, False, target))
    finding = _finding(reads, target, record, controls, settings, limits, list(made.notes[:-1]))
    if not held:
        return finding
    from .chain import judged_again
    from .replication_run import stretches

    asked = sum(s.repeats for s in stretches(settings) if not s.rests)
    if len(reads) < asked:
        finding = finding.lacking([f"{len(reads)} of {asked} passes came to their end"])
    return judged_again(finding, record, marks, controls, False, tuple(settings.control.limits))


def _read(record: Mapping[str, Channel], controls: list[str], start: int, level: float, rung: bool,
          target: Target) -> PassRead:  # fmt: skip
    y = _control(record, controls, start, target.wave.size)
    wanted = level * target.wave
    figures, moved = compare(y, wanted, target)
    return PassRead(start / target.rate, level, rung, figures, wanted, moved)


def _finding(reads: list[PassRead], target: Target, record: Mapping[str, Channel], controls: list[str],
             settings: ShakerSettings, limits: Limits, notes: list[str]) -> Finding:  # fmt: skip
    if not reads:
        why = "no pass came to its end"
        nothing = tuple(
            limits.judge(Reading(k, k.replace("_", " "), None, u, valid=False, reason=why)) for k, u in READINGS.items()
        )
        return Finding("time-replication", nothing, (), (), tuple(notes))
    highest = max(r.level for r in reads)
    last = [r for r in reads if r.level > 0.999 * highest][-1]
    g = last.figures
    inside = slice(target.offset, target.offset + target.length)
    shares, spectrum = _lines(last, target)
    peak = float(np.max(np.abs(last.moved[inside])))
    # A sensor's own doubt acts on the level as a whole, and so on the error as a difference of that size.
    own = settings.uncertainty.get("control")
    notes.append("The control sensor's own uncertainty is not stated: it is not in the error's doubt." if own is None
                 else f"The control sensor's own uncertainty is {own:g} %.")  # fmt: skip
    readings = [
        Reading("in_tolerance", f"Lines of the spectrum within ±{TOLERANCE:g} dB", shares, "%"),
        Reading("rms_error", "Error, rms over the target's rms", g.rms_error, "%", own, 2.0 if own else None),
        Reading("peak_error", "Peak against the target's", g.peak_error, "%", own, 2.0 if own else None),
        Reading("spectrum_error", "Error of the spectrum, rms", g.spectrum_error, "dB"),
        Reading("level", "Level, least squares", 100 * g.level, "%", own, 2.0 if own else None),
        Reading("control_peak", "Control, peak", peak, "m/s²"),
        Reading("passes", "Passes, ladder included", float(len(reads)), ""),
    ]  # fmt: skip
    if "drive" in record and record["drive"].unit == "V":
        a = int(round(last.start * target.rate))
        drive = record["drive"].samples(max(a, 0), a + target.wave.size)
        readings.append(Reading("drive_peak", "Drive, peak", float(np.max(np.abs(drive), initial=0.0)), "V"))
    for k, r in enumerate(reads, 1):
        db = f"{round(20 * np.log10(r.level), 1) + 0.0:g}".replace("-", "−")
        readings.append(Reading(f"rms_error_{k}", f"Pass {k} at {db} dB, error", r.figures.rms_error, "%"))
    notes.append(
        f"Error in the control band {target.band[0]:.4g} Hz to {target.band[1]:.4g} Hz; the response was moved by"
        f" {1e3 * g.delay:.3g} ms onto the target."
    )
    stride = max(1, target.length // 20000)
    t = tuple(float(v) for v in np.arange(0, target.length, stride) / target.rate)
    curves = [
        Curve(key, label, t, tuple(map(float, y[inside][::stride])), "s", "m/s²")
        for key, label, y in (
            ("control", "Control", last.moved), ("target", "Target", last.wanted),
            ("error", "Error", last.moved - last.wanted),
        )
    ]  # fmt: skip
    return Finding("time-replication", tuple(limits.judge(r) for r in readings), (*curves, *spectrum), (), tuple(notes))


def _lines(last: PassRead, target: Target) -> tuple[float | None, list[Curve]]:
    """Share of the spectrum's lines that are within tolerance, where the target has power; and both spectra."""
    inside = slice(target.offset, target.offset + target.length)
    frame = min(frame_for(target.rate, max(target.band[0] / 2, 1.0)), target.length)
    made = averaged([np.array([last.wanted[inside], last.moved[inside]])], 2, target.rate, frame)
    lines = (made.frequency >= target.band[0]) & (made.frequency <= target.band[1])
    f, (wanted, seen) = made.frequency[lines], made.auto[:, lines]
    matter = wanted > 1e-4 * wanted.max(initial=0.0)
    if not matter.any():
        return None, []
    off = 10 * np.log10(np.maximum(seen[matter], 1e-300) / wanted[matter])
    x = tuple(map(float, f))
    curves = [
        Curve("spectrum_control", "Control, spectrum", x, tuple(map(float, seen)), "Hz", "(m/s²)²/Hz"),
        Curve("spectrum_target", "Target, spectrum", x, tuple(map(float, wanted)), "Hz", "(m/s²)²/Hz"),
    ]
    return 100 * float(np.mean(np.abs(off) <= TOLERANCE)), curves
