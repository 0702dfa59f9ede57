"""Reading orders over speed from a record: pulses, rotation, hum taken off, orders, overall level, map."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from ...contracts.finding import Curve, Finding, Reading
from ...contracts.limits import Limits
from ...contracts.method import record_of
from ...contracts.recording import Channel
from ...core.calibration.soundlevel import P0
from ...core.errors import BadInput
from ...core.figures import significant
from ...core.quantities import parse, same_kind
from ...core.signal.bands import WIDEST, band_filter, edges, mid_frequencies
from ...core.signal.orders import Hum, OrderPoint, moments_of, order_point, steady_tones
from ...core.signal.rounding import rounded
from ...core.signal.sinefit import Floats
from ...core.signal.spectra import hann, lines
from ...core.signal.tacho import Rotation, pulse_times, rotation_of
from ...core.signal.weighting import weighting
from .speed_orders import SpeedSettings

UNITS = {"speed_min": "rpm", "speed_max": "rpm"}
CLOSE = 3.0
"""Order lines within which a steady tone spoils a point; a line is one over the window's revolutions."""
BEFORE = 0.5
"""s before a cut in which what led to it may have spoiled the record already"""
LINES = 600
"""Lines of the map at most."""
TURNS = 16
"""Revolutions of a row of the map over orders"""
TIME_WEIGHTINGS = {"F": 0.125, "S": 1.0}
"""s (IEC 61672-1, 5.8)"""
REACH, LEAST = 2.5, 2000.0
"""The map goes to so many times the highest order's frequency, and to so many hertz at least."""


def signal_in(channel: Channel, settings: SpeedSettings) -> Channel:
    """The signal in Pa, m/s² or what its record states. Raises BadInput where sensitivity and unit do not agree."""
    if settings.signal_sensitivity is None:
        for unit in ("Pa", "m/s^2"):
            if channel.unit and same_kind(channel.unit, unit):
                return channel.in_unit(unit)
        return channel
    if not same_kind(channel.unit or "?", "V"):
        raise BadInput(f"the signal is in '{channel.unit}' already: leave signal_sensitivity out.")
    value, unit = settings.sensitivity()
    return channel.in_unit("V").in_unit(unit, 1 / value)


def evaluate(
    record: Mapping[str, Channel], settings: SpeedSettings, marks: Sequence[Mapping[str, Any]] = ()
) -> Finding:
    """The finding. Of a take the stretch that was marked as the run is read, its tach level taken on. A tach that tells
    no speed makes invalid readings; contradictions raise BadInput."""
    held = record_of(record, settings)
    limits = Limits(settings.limits, UNITS, settings.decision)
    signal, tach = signal_in(held["signal"], settings), held["tach"]
    level = None
    if settings.trigger_level is not None:
        level = parse(settings.trigger_level, tach.unit or "", "trigger_level")
    triggers = [m for m in marks if m["kind"] == "trigger"]
    if triggers:
        given = triggers[-1].get("level")
        level = None if given is None else float(given)
    rising = settings.slope == "rising" if not triggers else bool(triggers[-1].get("rising", True))
    a, b = _stretch(marks, tach.duration)
    pulses, x = tach.between(a, b), signal.between(a, b)
    times = pulse_times(pulses, tach.rate, level, rising)
    try:
        rotation = rotation_of(times, settings.pulses_per_rev, (0.0, pulses.size / tach.rate))
    except BadInput as problem:
        none = [Reading(k, k, None, u, valid=False, reason=str(problem)) for k, u in UNITS.items()]
        return Finding("speed-orders", tuple(limits.judge(r) for r in none), notes=(str(problem),))
    rpm = 60 / rotation.per_angle
    readings = [
        Reading("speed_min", "Lowest speed", float(rpm.min()), "rpm"),
        Reading("speed_max", "Highest speed", float(rpm.max()), "rpm"),
    ]
    hums = steady_tones(x, signal.rate, rotation, settings.orders, settings.mains_hz())
    speeds = _speeds(settings, rpm)
    notes = _notes(rotation, times.size, hums)
    curves, spoiled = _curves(x, signal, rotation, settings, speeds, hums)
    maps = [
        spectra_map(x, signal, rotation, speeds, max(settings.orders), settings.resolution, settings.map_to),
        order_map(x, signal, rotation, speeds, max(settings.orders)),
    ]
    if settings.bands is not None:
        curve, over = _bands(x, signal, settings, rotation, speeds)
        curves.append(curve)
        maps.append(over)
    if spoiled:
        notes.append(f"{spoiled} points within {CLOSE:g} order lines of the mains could not be parted from it.")
    return Finding(
        "speed-orders", tuple(limits.judge(r) for r in readings), tuple(curves),
        maps=tuple(maps), notes=tuple(notes),
    )  # fmt: skip


def _stretch(marks: Sequence[Mapping[str, Any]], duration: float) -> tuple[float, float]:
    """Start and stop [s] of the run that was marked last, all where none was; of one that was cut up to the cut."""
    runs = [m for m in marks if m["kind"] == "rotation"]
    if not runs:
        return 0.0, duration
    start, stop = float(runs[-1]["start"]), runs[-1].get("stop")
    if stop is None:
        cuts = [float(m["t"]) for m in marks if m["kind"] == "trip" and m.get("action") in ("cut", "ease")]
        stop = max(min(cuts) - BEFORE, start) if cuts else duration
    return start, float(stop)


def _speeds(settings: SpeedSettings, rpm: Floats) -> Floats:
    if settings.speed is None:
        return np.linspace(float(rpm.min()), float(rpm.max()), 51)
    held = settings.speed
    count = int(math.floor((held.high - held.low) / held.step + 1e-9))
    made = held.low + held.step * np.arange(count + 1)
    return np.asarray(made if held.high - made[-1] < 1e-6 * held.high else np.append(made, held.high), dtype=np.float64)


def _notes(rotation: Rotation, pulses: int, hums: list[Hum]) -> list[str]:
    notes = [f"{pulses} tach pulses, jitter {significant(1e6 * rotation.jitter)} µs rms."]
    if rotation.missing:
        notes.append(f"{rotation.missing} missing tach pulses were put in.")
    if rotation.extra:
        notes.append(f"{rotation.extra} extra tach pulses were taken out.")
    if hums:
        named = ", ".join(f"{h.frequency:.4g} Hz" for h in hums)
        notes.append(f"Steady tones at {named} were fitted over the whole record and taken off before the orders.")
    return notes


def _curves(
    x: Floats, signal: Channel, rotation: Rotation, settings: SpeedSettings, speeds: Floats, hums: list[Hum]
) -> tuple[list[Curve], int]:
    """Order curves, overall and speed; and how many points the mains spoiled."""
    t = np.arange(x.size) / signal.rate
    clean = x - np.sum([h.wave(t) for h in hums], axis=0) if hums else x
    heard = weighting(settings.weighting, signal.rate)(x - x.mean())
    points: list[OrderPoint | None] = []
    overall: list[float | None] = []
    moments = moments_of(rotation, speeds)
    for at in moments:
        point = None
        if at is not None:
            point = order_point(clean, signal.rate, rotation, at, settings.orders, settings.revolutions)
        points.append(point)
        overall.append(None if at is None or point is None else _level(heard, signal, rotation, at, settings))
    if settings.time_weighting is not None:
        overall = _time_weighted(heard, signal, moments, TIME_WEIGHTINGS[settings.time_weighting])
    spoilt = _spoilt(settings, speeds, rotation, hums)
    unit = signal.unit.replace("^2", "²")
    curves = []
    for i, k in enumerate(settings.orders):
        y = tuple(None if p is None else float(abs(p.amplitudes[i])) / math.sqrt(2) for p in points)
        doubt = tuple(None if p is None else 2 * p.error / math.sqrt(2) for p in points)
        good = tuple(p is not None and not s for p, s in zip(points, spoilt[i], strict=True))
        curves.append(Curve(f"order_{k:g}", f"Order {k:g}", tuple(speeds), y, "rpm", unit, doubt, 2.0, valid=good))
    name = "Overall" if settings.weighting == "Z" else f"Overall, {settings.weighting}-weighted"
    curves.append(Curve("overall", name, tuple(speeds), tuple(overall), "rpm", "dB" if signal.unit == "Pa" else unit))
    thin = slice(None, None, max(1, rotation.time.size // 500))
    curves.append(Curve("speed", "Speed", tuple(rotation.time[thin]), tuple(60 / rotation.per_angle[thin]), "s", "rpm"))
    return curves, int(sum(sum(s) for s in spoilt))


def _in_level(power: float, signal: Channel) -> float:
    """A mean square as level where the signal is in Pa, as rms otherwise."""
    return 10 * math.log10(max(power, 1e-30) / P0**2) if signal.unit == "Pa" else math.sqrt(max(power, 0.0))


def _time_weighted(heard: Floats, signal: Channel, moments: list[float | None], tau: float) -> list[float | None]:
    """Exponentially time-weighted level at moments (IEC 61672-1, 5.8 and equation 1)."""
    from scipy.signal import lfilter

    keep = math.exp(-1 / (tau * signal.rate))
    first = np.array([keep * float(np.mean(heard[: max(int(tau * signal.rate), 1)] ** 2))])
    power, _ = lfilter([1 - keep], [1, -keep], heard**2, zi=first)
    return [None if at is None else _in_level(float(power[min(int(at * signal.rate), power.size - 1)]), signal)
            for at in moments]  # fmt: skip


def _bands(x: Floats, signal: Channel, settings: SpeedSettings, rotation: Rotation, speeds: Floats
           ) -> tuple[Curve, dict[str, Any]]:  # fmt: skip
    """Level of each band, frequency-weighted as the overall level is: over the whole run, and about the moment at which
    each speed was reached, over a tenth of a second or three over the bandwidth, whichever is longer."""
    from scipy.signal import sosfilt

    fraction = 1 if settings.bands == "octaves" else 3
    mids = mid_frequencies(25.0, 0.8 * WIDEST * signal.rate, fraction)
    heard = weighting(settings.weighting, signal.rate)(x - x.mean())
    reached = [(float(v), at) for v, at in zip(speeds, moments_of(rotation, speeds), strict=True) if at is not None]
    whole, rows = [], np.empty((len(reached), mids.size))
    for k, mid in enumerate(mids):
        summed = np.concatenate([[0.0], np.cumsum(sosfilt(band_filter(float(mid), fraction, signal.rate), heard) ** 2)])
        whole.append(_in_level(float(summed[-1] / x.size), signal))
        low, high = edges(np.array([mid]), fraction)
        half = max(0.05, 1.5 / float(high[0] - low[0]))
        for i, (_, at) in enumerate(reached):
            a, b = max(int((at - half) * signal.rate), 0), min(int((at + half) * signal.rate) + 1, x.size)
            rows[i, k] = _in_level(float((summed[b] - summed[a]) / max(b - a, 1)), signal)
    unit = "dB" if signal.unit == "Pa" else signal.unit
    places = tuple(float(m) for m in mids)
    return Curve("bands", f"Whole run in {settings.bands}", places, tuple(whole), "Hz", unit), {
        "key": "bands", "label": f"{str(settings.bands).capitalize()} over speed", "x": list(places),
        "y": [v for v, _ in reached], "z": [rounded(row, 4) for row in rows], "x_unit": "Hz", "y_unit": "rpm",
        "z_unit": unit, "times": [round(float(at), 4) for _, at in reached],
    }  # fmt: skip


def _spoilt(settings: SpeedSettings, speeds: Floats, rotation: Rotation, hums: list[Hum]) -> list[list[bool]]:
    """By order and speed: whether a steady tone lies within a few lines of it and could not be parted, which is so
    where the speed stands nearly still."""
    rpm = 60 / rotation.per_angle
    moving = rpm.max() >= 1.15 * rpm.min()
    mains = settings.mains_hz()
    if moving or mains is None:
        return [[False] * speeds.size for _ in settings.orders]
    near = CLOSE / settings.revolutions
    tones = [mains * k for k in range(1, 9)]
    return [[any(abs(f * 60 / v - k) < near for f in tones) for v in speeds] for k in settings.orders]


def _level(heard: Floats, signal: Channel, rotation: Rotation, at: float, settings: SpeedSettings) -> float:
    """Overall rms about a moment, or its level where the signal is in Pa; over the orders' window, and a tenth of a
    second at least."""
    middle = float(rotation.angle_at(np.array([at]))[0])
    half = settings.revolutions / 2
    low, high = (float(np.interp(middle + d, rotation.angle, rotation.time)) for d in (-half, half))
    low, high = min(low, at - 0.05), max(high, at + 0.05)
    piece = heard[max(int(low * signal.rate), 0) : int(high * signal.rate) + 1]
    w = np.sin(np.pi * (np.arange(piece.size) + 0.5) / piece.size) ** 2
    mean = float(w @ piece / w.sum())
    power = float(w @ (piece - mean) ** 2 / w.sum())
    return _in_level(power, signal)


def spectra_map(x: Floats, signal: Channel, rotation: Rotation, speeds: Floats, order: float, resolution: float = 4.0,
                to: float | None = None) -> dict[str, Any]:  # fmt: skip
    """rms spectra [unit] over frequency (x) at each speed that was reached (y), lines about `resolution` Hz apart, up
    to `to` Hz or as far as the highest `order` asks."""
    frame = 1 << int(np.clip(round(math.log2(signal.rate / resolution)), 6, 18))
    frame = min(frame, 1 << max(int(math.log2(max(x.size, 16))), 4))
    window = hann(frame)
    f = lines(frame, signal.rate)
    f = f[f <= (to or max(LEAST, REACH * order * float((1 / rotation.per_angle).max())))]
    stride = max(1, math.ceil(f.size / LINES))
    count = f.size // stride
    rows, at_speeds, times = [], [], []
    for v, at in zip(speeds, moments_of(rotation, speeds), strict=True):
        if at is None or x.size < frame:
            continue
        a = int(np.clip(at * signal.rate - frame / 2, 0, x.size - frame))
        y = np.abs(np.fft.rfft((x[a : a + frame] - x[a : a + frame].mean()) * window)) * math.sqrt(2) / window.sum()
        # Of lines taken together the largest is shown, so that no order is lost.
        rows.append([float(s) for s in y[: count * stride].reshape(count, stride).max(axis=1)])
        at_speeds.append(float(v))
        times.append(round(float(at), 4))
    x_axis = [float(v) for v in f[: count * stride].reshape(count, stride).mean(axis=1)]
    unit = signal.unit.replace("^2", "²")
    return {"key": "spectra", "label": "Spectra over speed", "x": x_axis, "y": at_speeds, "z": rows, "x_unit": "Hz",
            "y_unit": "rpm", "z_unit": unit, "times": times}  # fmt: skip


def order_map(x: Floats, signal: Channel, rotation: Rotation, speeds: Floats, order: float) -> dict[str, Any]:
    """rms spectra [unit] over orders (x) at each speed that was reached (y): the signal at equal steps of angle over
    sixteen revolutions, so that an order is one line however fast the speed changes."""
    from scipy.interpolate import CubicSpline

    top = max(int(math.ceil(1.5 * order)), 4)
    rows, at_speeds, times = [], [], []
    for v, at in zip(speeds, moments_of(rotation, speeds), strict=True):
        if at is None:
            continue
        middle = float(rotation.angle_at(np.array([at]))[0])
        begin = middle - TURNS / 2
        if begin < rotation.angle[0] or begin + TURNS > rotation.angle[-1]:
            continue
        low, high = (float(np.interp(a, rotation.angle, rotation.time)) for a in (begin, begin + TURNS))
        a, b = max(int(low * signal.rate) - 4, 0), min(int(high * signal.rate) + 5, x.size)
        # As many steps as there are samples: what lies above the orders of interest does not fold into them.
        count = max(int(TURNS * 2.56 * top), b - a)
        turns = begin + TURNS * np.arange(count) / count
        moments = CubicSpline(rotation.angle, rotation.time)(turns)
        piece = CubicSpline(np.arange(a, b) / signal.rate, x[a:b])(
            np.clip(moments, a / signal.rate, (b - 1) / signal.rate)
        )
        w = hann(count)
        y = np.abs(np.fft.rfft((piece - piece.mean()) * w))[: top * TURNS + 1] * math.sqrt(2) / w.sum()
        rows.append(rounded(y, 5))
        at_speeds.append(float(v))
        times.append(round(float(at), 4))
    unit = signal.unit.replace("^2", "²")
    return {"key": "orders", "label": "Orders over speed", "x": [k / TURNS for k in range(top * TURNS + 1)],
            "y": at_speeds, "z": rows, "x_unit": "order", "y_unit": "rpm", "z_unit": unit, "times": times}  # fmt: skip
