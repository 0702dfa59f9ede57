"""The chain's tiles, from one block of inputs: what each part of the signal path is doing."""

from __future__ import annotations

import math
from collections.abc import Collection, Mapping
from typing import Any

import numpy as np

from ..core.figures import axis_unit
from ..core.quantities import factor
from ..core.signal.looking import lines, look, still
from ..core.signal.rounding import rounded
from ..core.signal.sinefit import Floats
from ..protocol.messages import Room, Tile
from ..rig.model import MEASURED
from .preparing import Prepared


def number(value: float, unit: str, least: float = 1e-9) -> str:
    """Three digits and a prefix; below `least` nothing worth a figure."""
    size = abs(value)
    if size < least:
        return f"0 {unit}"
    if "/" in unit or unit.startswith("dB"):  # a prefix belongs to a lone unit
        return f"{three(value)} {unit}".replace("-", "−")
    for limit, by, prefix in ((1e-3, 1e6, "µ"), (1.0, 1e3, "m"), (1e3, 1.0, ""), (1e9, 1e-3, "k")):
        if size < limit:
            value, unit = value * by, prefix + unit
            break
    size = abs(value)
    digits = 0 if size >= 100 else 1 if size >= 10 else 2
    return f"{value:.{digits}f} {unit}".replace("-", "−")


def three(value: float) -> str:
    """Three digits, without an exponent where it can be helped."""
    return f"{value:.0f}" if abs(value) >= 100 else f"{value:.3g}"


def level_text(value: float) -> str:
    digits = 0 if value >= 100 else 1 if value >= 1 else 2
    return f"{value:.{digits}f} m/s²"


def _sensor_detail(prepared: Prepared, role: str) -> tuple[str, str]:
    sensor = prepared.plan.sensors.get(role)
    if sensor is None:
        return role, ""
    due = f"to {sensor.due[:7]}" if sensor.due else ""
    value = f"{sensor.sensitivity:.4g} {sensor.unit}" if sensor.sensitivity else sensor.model
    return f"{sensor.serial} · {value}", due


def _inputs(prepared: Prepared, worst: float) -> Tile:
    """The inputs' tile; `worst` is the largest share of a range that is used."""
    end, headroom = prepared.rig.front_end, -20 * np.log10(max(worst, 1e-6))
    return Tile(
        "inputs", "Inputs", f"{end.bits} bit · {end.rate / 1e3:.1f} kS/s",
        f"{min(headroom, 99):.0f} dB" if worst < 1 else "overload", "headroom", worst, 1.0, "measure", worst >= 1,
    )  # fmt: skip


def chain(
    prepared: Prepared, samples: Mapping[str, Floats], drive: Floats, rooms: list[Room], live: Mapping[str, Any],
    instruments: Mapping[str, Any] | None = None,
) -> list[Tile]:  # fmt: skip
    """Source to inputs. `samples` in volts by role, `drive` volts as played."""
    made = _chain(prepared, samples, drive, rooms, live, instruments)
    gauge = prepared.rig.gauge
    if gauge is not None and instruments and "gauge" in instruments:
        value = instruments["gauge"] / factor(gauge.unit, MEASURED[gauge.measures])
        told = f"{_plain(value, 4 if abs(value) < 100 else 2)} {gauge.unit}"
        line = "over SCPI" if gauge.over == "scpi" else "over Modbus"
        made.insert(0, Tile("gauge", "Gauge", gauge.sensor or gauge.measures, told, line, 0.0, None, "measure"))
    return made


def _chain(
    prepared: Prepared, samples: Mapping[str, Floats], drive: Floats, rooms: list[Room], live: Mapping[str, Any],
    instruments: Mapping[str, Any] | None,
) -> list[Tile]:  # fmt: skip
    rig = prepared.rig
    if rig.load is not None:
        return amplifier_chain(prepared, samples, drive, instruments or {})
    if rig.frame is not None:
        return frame_chain(prepared, samples, drive, instruments)
    if rig.standin.scene is not None or not any(c.kind == "acceleration" and c.axis == "axial" for c in rig.channels):
        return listening_chain(prepared, samples, live)
    used = {r.key: r for r in rooms}
    frequency = live.get("frequency")
    peak = float(np.max(np.abs(drive)))
    detail = f"sine {frequency:.4g} Hz" if frequency and peak > 0 else "sine out 1"
    if live.get("stage") == "insert":
        detail = "multi-sine to inputs"
    made = [
        Tile("source", "Source", detail, number(peak, "V"), "peak", peak / rig.front_end.source_range, 0.99, "drive")
    ]
    coil = float(np.max(np.abs(drive))) * rig.amplifier.gain
    made.append(
        Tile(
            "amplifier", "Power amplifier", f"gain {20 * np.log10(rig.amplifier.gain):.0f} dB", number(coil, "V"),
            f"of {rig.amplifier.clip:.0f}", coil / rig.amplifier.clip, 0.95, "drive",
        )
    )  # fmt: skip
    current = used.get("current")
    stroke = used.get("stroke")
    if current is not None:
        detail = f"stroke {number(stroke.value, 'm', 2e-7)}" if stroke else rig.shaker.model
        made.append(
            Tile(
                "shaker", "Shaker", detail, number(current.value, "A", 2e-3), "peak",
                max(current.used, stroke.used if stroke else 0.0), 1.0, "drive", max(current.used, 0) >= 1,
            )
        )  # fmt: skip
    measured = [c for c in rig.channels if c.kind == "acceleration"]
    overload = {c.role: float(np.max(np.abs(samples[c.role]))) / c.range for c in measured}
    if "unit" in samples:
        shown = [("reference", "Reference"), ("unit", "Unit")]
    else:
        shown = [(c.role, c.role.capitalize()) for c in measured][:3]
    for role, title in shown:
        text, due = _sensor_detail(prepared, role)
        x = samples[role]
        level = float(np.std(x)) * np.sqrt(2)
        value = number(level, "V") if role == "unit" else level_text(level / prepared.facts.sensitivity[role])
        if live.get("stage") in ("random", "history") and role != "unit":
            value = level_text(level / np.sqrt(2) / prepared.facts.sensitivity[role])
            due = "rms"
        made.append(Tile(role, title, text, value, due or "peak", overload[role], 1.0, "measure", overload[role] >= 1))
    worst = max(overload[role] for role, _ in shown)
    return [*made, _inputs(prepared, worst)]


def _sensor_value(kind: str, x: Floats, scale: float) -> tuple[str, str]:
    """What a sensor shows, and what of it: `x` in volts, `scale` V per unit."""
    if kind == "tach":
        return number(float(np.ptp(x)), "V"), "swing"
    if kind == "pressure":
        level = 20 * np.log10(max(float(np.std(x)) / scale, 1e-9) / 20e-6)
        return f"{level:.1f} dB", "re 20 µPa"
    unit = MEASURED.get(kind, "V")
    if kind == "temperature":
        return f"{_plain(float(np.mean(x)) / scale, 1)} {unit}", "mean"
    peak = float(np.max(np.abs(x - np.median(x)))) / scale
    return f"{three(peak)} {unit}", "peak"


def _still_value(kind: str, x: Floats, scale: float | None, reach: float) -> tuple[str, str]:
    """Where what is read stands still: its mean, `x` in volts, `scale` V per unit, None where that is not known; no
    finer than a ten-thousandth of what the input reaches [V]."""
    unit = MEASURED.get(kind)
    if unit is None or scale is None:
        unit, scale = "V", 1.0
    by, shown = axis_unit(reach / scale, unit)
    digits = max(0, 3 - math.floor(math.log10(by * reach / scale)))
    return f"{_plain(by * float(np.mean(x)) / scale, digits)} {shown}", "mean"


def listening_chain(prepared: Prepared, samples: Mapping[str, Floats], live: Mapping[str, Any]) -> list[Tile]:
    """Of a bench that only listens: each sensor with its range, and the inputs."""
    rig, made = prepared.rig, []
    ranges = {c.role: c.range for c in rig.channels} | dict(live.get("ranges", {}))
    worst = 0.0
    for c in rig.channels:
        text, due = _sensor_detail(prepared, c.role)
        x = samples[c.role]
        used = float(np.max(np.abs(x))) / ranges[c.role]
        worst = max(worst, used)
        scale = prepared.facts.sensitivity.get(c.role)
        if prepared.method.at_rest:
            value, what = _still_value(c.kind, x, scale, ranges[c.role])
        else:
            value, what = _sensor_value(c.kind, x, 1.0 if scale is None else scale)
        if c.kind == "tach":
            rpm = live.get("rpm")
            text = f"{rpm:.0f} rpm" if rpm else "no speed"
        lamp = live.get("lamps", {}).get(c.role, {})
        if lamp:
            unit = MEASURED.get(c.kind, "V")
            value, what = (
                f"{three(lamp['share'] * ranges[c.role] / prepared.facts.sensitivity[c.role])} {unit}",
                "last hit",
            )
        if lamp and lamp["state"] != "well":
            what = lamp["text"]
        note = f"{what} · {ranges[c.role]:g} V" if not lamp or lamp["state"] == "well" else what
        alarm = used >= 1 or lamp.get("state") == "over"
        used = max(used, float(lamp.get("share", 0.0))) if lamp else used
        made.append(Tile(c.role, c.role.capitalize(), text, value, note, used, 1.0, "measure", alarm))
    return [*made, _inputs(prepared, worst)]


def _plain(value: float, digits: int) -> str:
    """Without a sign where nothing is left of it."""
    text = f"{value:.{digits}f}"
    return text.lstrip("-") if float(text) == 0 else text.replace("-", "−")


def frame_chain(
    prepared: Prepared, samples: Mapping[str, Floats], drive: Floats, shown: Mapping[str, Any] | None = None
) -> list[Tile]:  # fmt: skip
    """Of a load frame: what is commanded, force and lengths as they stand, and the inputs."""
    rig, made = prepared.rig, []
    assert rig.frame is not None
    speed = float(np.mean(drive)) * rig.frame.speed
    fastest = rig.front_end.source_range * abs(rig.frame.speed)
    digits = ".0f" if abs(6e4 * speed) >= 100 else ".3g"
    said = "at rest" if speed == 0 else f"{6e4 * speed:{digits}} mm/min"
    made.append(Tile("actuator", "Actuator", rig.frame.model, said,
                     f"of {6e4 * fastest:.4g}", abs(speed) / fastest, 0.99, "drive"))  # fmt: skip
    worst = 0.0
    for c in rig.channels:
        x = samples[c.role]
        used = float(np.max(np.abs(x))) / c.range
        worst = max(worst, used)
        value = float(np.mean(x)) / prepared.facts.sensitivity.get(c.role, 1.0)
        text, _ = _sensor_detail(prepared, c.role)
        if c.kind == "force":
            large = rig.frame.force >= 1000
            told = f"{_plain(value / 1e3, 2)} kN" if large else f"{_plain(value, 1)} N"
            most = f"of {rig.frame.force / (1e3 if large else 1):g}"
            used = max(used, abs(value) / rig.frame.force)
        elif c.kind == "length":
            told, most = f"{_plain(1e3 * value, 3)} mm", f"of {1e3 * c.range / prepared.facts.sensitivity[c.role]:.3g}"
        elif c.kind == "temperature":
            told, most = f"{_plain(value, 1)} °C", f"of {c.range / prepared.facts.sensitivity[c.role]:.3g}"
        else:
            told, most = number(float(np.mean(x)), "V"), f"of {c.range:g} V"
        made.append(Tile(c.role, c.role.capitalize(), text, told, most, used, 1.0, "measure", used >= 1))
    if rig.chamber is not None and shown and "chamber" in shown:
        made.insert(1, Tile("chamber", "Chamber", f"{rig.chamber.lowest:g} to {rig.chamber.highest:g} °C",
                            f"{_plain(shown['chamber'], 1)} °C", f"set {_plain(shown['chamber_set'], 1)}", 0.0, 0.99,
                            "drive"))  # fmt: skip
    return [*made, _inputs(prepared, worst)]


def amplifier_chain(
    prepared: Prepared, samples: Mapping[str, Floats], drive: Floats, shown: Mapping[str, Any]
) -> list[Tile]:
    """Of an amplifier's bench: supply, source, outputs with their loads, and the inputs."""
    rig, part = prepared.rig, getattr(prepared.settings, "supply", None)
    made = []
    volts = shown.get("supply")
    if part is not None:
        off = abs(volts / part.nominal - 1) / (part.within / 100) if volts else 0.0
        made.append(
            Tile("supply", "Supply", f"{part.nominal:g} V ± {part.within:g} %", f"{volts:.1f} V" if volts else "–",
                 f"{shown.get('supply_current', 0.0):.2f} A", off, 1.0, "drive", off > 1)
        )  # fmt: skip
    peak, level = float(np.max(np.abs(drive))), float(np.std(drive))
    made.append(Tile("source", "Source", "to the inputs", number(level, "V"), "rms", peak / rig.front_end.source_range,
                     0.99, "drive"))  # fmt: skip
    worst = 0.0
    for c in rig.channels:
        x = samples[c.role]
        used = float(np.max(np.abs(x))) / c.range
        worst = max(worst, used)
        ohm = shown.get("resistance", {}).get(c.role)
        rms = float(np.std(x))
        note = f"{rms**2 / ohm:.3g} W" if ohm and rms > 0.01 else ""
        made.append(Tile(c.role, f"Output {c.role}", "open" if ohm is None else f"{ohm:.2f} Ω, hot", number(rms, "V"),
                         note, used, 1.0, "measure", used >= 1))  # fmt: skip
    heat = shown.get("temperature", {})
    if heat and rig.load is not None:
        hot = max(heat.values())
        made.append(Tile("load", "Load bank", "fan on" if shown.get("fan") else "fan off", f"{hot:.0f} °C",
                         f"of {rig.load.limit:.0f}", (hot - 20) / (rig.load.limit - 20), 1.0, "drive",
                         hot >= rig.load.limit))  # fmt: skip
    return [*made, _inputs(prepared, worst)]


def picture(samples: Mapping[str, Floats], rate: float, frequency: float | None) -> dict[str, Any]:
    """A still picture of the first two sensors: two and a half periods from a rising zero of the first."""
    pair = [r for r in ("reference", "unit") if r in samples]
    first, *others = pair if "unit" in pair else [r for r in samples if r != "current"][:3]
    reference = samples[first]
    reference = reference - reference.mean()
    span = reference.size
    if frequency:
        span = int(np.clip(2.5 * rate / frequency, 32, reference.size))
    start = reference.size - span
    if frequency and reference.size > span + 2:
        head = reference[:start]
        rising = np.flatnonzero((head[:-1] < 0) & (head[1:] >= 0))
        if rising.size:
            start = int(rising[-1])
    stride = max(1, span // 240)
    t = np.arange(0, span, stride) / rate
    made: dict[str, Any] = {"t": np.round(t, 7).tolist()}
    for role in (first, *others):
        x = samples[role][start : start + span : stride]
        made[role] = rounded(x - np.mean(samples[role]), 5)
    return made


def looked(samples: Mapping[str, Floats], rate: float, bias: Mapping[str, float], over: Collection[str]
           ) -> dict[str, Any]:  # fmt: skip
    """Every input for the eye: figures in volts, a still picture and a coarse spectrum, by role."""
    rows = np.array(list(samples.values()))
    seen = look(rows, rate)
    tones = np.isfinite(seen.frequency)
    lead = float(seen.frequency[int(np.argmax(np.where(tones, seen.rms, -1.0)))]) if tones.any() else None
    t, waves = still(rows, rate, lead)
    f, spectrum = lines(rows, rate)
    made: dict[str, Any] = {"t": rounded(t, 5), "f": rounded(f, 4)}
    for i, role in enumerate(samples):
        one = {k: float(getattr(seen, k)[i]) for k in ("mean", "rms", "peak", "frequency")}
        made[role] = {**one, "over": role in over, "bias": bias.get(role), "wave": rounded(waves[i], 4),
                      "lines": rounded(spectrum[i], 3)}  # fmt: skip
    return made
