"""Power for hours: coil temperature, resistance, power and what the sound loses (IEC 60268-5, IEC 60268-21)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import model_validator

from ...contracts.finding import Curve, Finding
from ...contracts.method import Axis, overload_limits, record_of
from ...contracts.recording import Channel
from ...contracts.samples import Readings, listed, points, together
from ...contracts.settings import Model, quantity
from ...core.audio import endurance
from ...core.errors import BadInput
from ...core.quantities import degrees, factor, parse, same_kind
from .shared import SoundMethod, SoundSettings

KEYS = {
    "coil_temperature_max": ("Coil temperature, highest", "°C"),
    "coil_temperature_end": ("Coil temperature, end", "°C"),
    "resistance_end": ("Resistance, end", "ohm"),
    "rms_voltage": ("Voltage", "V"),
    "power": ("Power", "W"),
    "crest_factor": ("Crest factor at the terminals", ""),
    "duration": ("Duration", "s"),
    "compression_end": ("Compression, end", "dB"),
}
COIL = ("coil_temperature_max", "coil_temperature_end", "resistance_end")


class Probe(Model):
    """A tone far below the signal."""

    frequency: Annotated[float, quantity("Hz")]

    @model_validator(mode="after")
    def _positive(self) -> Probe:
        if self.frequency <= 0:
            raise ValueError("frequency: it must be above zero.")
        return self


class EnduranceSettings(SoundSettings):
    """Coil, probe and channels."""

    wire: Literal["copper", "aluminium"] | None = None
    """Of the coil; copper when nothing is said"""
    coefficient: Annotated[float, quantity("1/K")] | None = None
    """Of its resistance at 20 °C, instead of a wire"""
    cold_resistance: Annotated[float, quantity("ohm")] | None = None
    """From the first stretch when missing"""
    cold_temperature: float | str = 20.0
    """°C at which it was cold"""
    probe: Probe | None = None
    """{frequency}; without it there is no resistance"""
    every: Annotated[float, quantity("s")] = 10.0
    """Stretch of one point"""
    current_scale: Annotated[float, quantity("A/V")] | None = None
    """Of a current that is recorded in volts"""
    microphone_sensitivity: Any = None
    """mV/Pa, of a microphone that is recorded in volts"""
    impedance_uncertainty: Annotated[float, quantity("%")] | None = None
    """Expanded (k = 2), of resistances"""

    @model_validator(mode="after")
    def _sensible(self) -> EnduranceSettings:
        if self.wire is not None and self.coefficient is not None:
            raise ValueError("wire and coefficient: give one of them.")
        for name in ("coefficient", "cold_resistance", "current_scale", "every"):
            value = getattr(self, name)
            if value is not None and value <= 0:
                raise ValueError(f"{name}: it must be above zero.")
        self.cold()
        return self

    def alpha(self) -> float:
        if self.coefficient is not None:
            return self.coefficient
        return endurance.ALUMINIUM if self.wire == "aluminium" else endurance.COPPER

    def cold(self) -> float:
        """°C."""
        return degrees(self.cold_temperature, "cold_temperature") if self.cold_temperature != "" else 20.0


class PowerEndurance(SoundMethod):
    """The method as the registry knows it."""

    name = "power-endurance"
    title = "Power endurance"
    roles = ("voltage", "current")
    optional_roles = ("temperature", "microphone")
    about = "What hours of power do to a loudspeaker: coil temperature, resistance, compression"
    Settings = EnduranceSettings
    readings = listed(KEYS)
    curves = {
        "coil_temperature": "Coil temperature [°C] over s", "resistance": "Resistance at the probe [ohm] over s",
        "power": "Power, mean of v·i [W] over s", "rms_voltage": "Voltage [V] over s",
    }  # fmt: skip
    views = (
        Axis("coil_temperature", "Coil", ("coil_temperature", "temperature"), "s", "°C"),
        Axis("resistance", "Resistance", ("resistance",), "s", "ohm"),
        Axis("power", "Power", ("power",), "s", "W"),
        Axis("rms_voltage", "Voltage", ("rms_voltage",), "s", "V"),
    )

    def evaluate(
        self, record: Mapping[str, Channel], settings: EnduranceSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        held = record_of(record, settings)
        more = ("microphone",) if "microphone" in held else ()
        rate, n = together(held, ("voltage", "current", *more))
        scale = _scales(held, settings)
        length = int(round(settings.every * rate))
        if length < 16:
            raise BadInput(f"every: {settings.every:g} s hold too few samples of a record at {rate:g} Hz.")
        if settings.probe is not None and settings.probe.frequency >= rate / 2:
            raise BadInput(f"probe: a record at {rate:g} Hz can't hold {settings.probe.frequency:g} Hz.")
        if settings.probe is not None and settings.probe.frequency * settings.every < 4:
            raise BadInput(f"probe: {settings.every:g} s hold fewer than four periods of its frequency.")
        made = Readings(KEYS, settings)
        limits = overload_limits(held, settings, ("voltage", "current"))
        rows = _walked(held, scale, n, length, rate, settings, limits)
        notes = _readings(made, rows, n / rate, settings)
        return Finding(self.name, made.all(), _curves(rows, length / rate, held, settings), notes=tuple(notes))


METHOD = PowerEndurance()


def _scales(held: Mapping[str, Channel], settings: EnduranceSettings) -> dict[str, float]:
    """What each channel's samples are multiplied by to be V, A and Pa. Raises BadInput."""
    made = {}
    for role, unit, given in (
        ("voltage", "V", None), ("current", "A", settings.current_scale),
        ("microphone", "Pa", settings.microphone_sensitivity),
    ):  # fmt: skip
        if role not in held:
            continue
        own = held[role].unit
        if given is not None and same_kind(own or "V", "V"):
            by = float(given) if role == "current" else 1e3 / parse(given, "mV/Pa", "microphone_sensitivity")
            made[role] = factor(own or "V", "V") * by
        elif not own:
            raise BadInput(f"the {role} channel states no unit: name it like '{role} [{unit}]'.")
        else:
            made[role] = factor(own, unit)
    return made


class Rows:
    """One value a stretch, and sums over the record."""

    def __init__(self) -> None:
        self.resistance: list[float] = []
        self.power: list[float] = []
        self.voltage: list[float] = []
        self.microphone: list[float] = []
        self.top, self.squares, self.work, self.count = 0.0, 0.0, 0.0, 0
        self.overloaded = False


def _walked(
    held: Mapping[str, Channel], scale: Mapping[str, float], n: int, length: int, rate: float,
    settings: EnduranceSettings, limits: tuple[float | None, ...],
) -> Rows:  # fmt: skip
    """Stretch by stretch, so that days fit into memory."""
    rows = Rows()
    for a in range(0, n, length):
        b = min(a + length, n)
        raw = {r: held[r].samples(a, b) for r in scale}
        for role, limit in zip(("voltage", "current"), limits, strict=True):
            rows.overloaded |= limit is not None and bool(np.max(np.abs(raw[role])) >= limit * (1 - 1e-6))
        v, i = raw["voltage"] * scale["voltage"], raw["current"] * scale["current"]
        rows.top = max(rows.top, float(np.max(np.abs(v))))
        rows.squares += float(v @ v)
        rows.work += float(v @ i)
        rows.count += b - a
        if b - a < length:
            continue
        rows.power.append(float(v @ i) / length)
        rows.voltage.append(float(np.sqrt(v @ v / length)))
        if settings.probe is not None:
            rows.resistance.append(endurance.impedance_at(v, i, rate, settings.probe.frequency).real)
        if "microphone" in raw:
            rows.microphone.append(float(np.std(raw["microphone"])) * scale["microphone"])
    return rows


def _readings(made: Readings, rows: Rows, duration: float, settings: EnduranceSettings) -> list[str]:
    notes: list[str] = []
    ok = not rows.overloaded
    why = None if ok else "an input was overloaded"
    rms = float(np.sqrt(rows.squares / max(rows.count, 1)))
    made.put("duration", duration, 0.0)
    made.put("rms_voltage", rms, None, why, valid=ok)
    made.put("power", rows.work / max(rows.count, 1), None, why, valid=ok)
    made.put("crest_factor", rows.top / rms if rms > 0 else None, None, why or "there is no voltage", valid=ok)
    stated = (settings.impedance_uncertainty or 0.0) / 100
    if not rows.resistance:
        reason = "there is no probe" if settings.probe is None else "the record is shorter than one stretch"
        made.absent(COIL, reason)
    else:
        cold = _cold(rows, settings, notes)
        r = np.array(rows.resistance)
        if cold is None or not np.isfinite(r).any():
            made.absent(COIL, "nothing flows at the probe's frequency")
        else:
            heat = endurance.coil_temperature(r, cold, settings.cold(), settings.alpha())
            # A share of the resistance is a share of T + 1/α − 20, in the cold and in the hot one.
            base = 1 / settings.alpha() - 20
            doubt = [float(np.sqrt(2) * stated * (base + t)) if stated else None for t in (np.nanmax(heat), heat[-1])]
            made.put("coil_temperature_max", float(np.nanmax(heat)), doubt[0], why, valid=ok)
            made.put("coil_temperature_end", float(heat[-1]), doubt[1], why, valid=ok)
            made.put("resistance_end", float(r[-1]), stated * float(r[-1]) if stated else None, why, valid=ok)
            if not stated:
                notes.append("No impedance_uncertainty is given: resistance and temperature have no doubt here.")
    if len(rows.microphone) < 2:
        made.put(
            "compression_end", None, why="there is no microphone" if not rows.microphone else "there is one stretch"
        )
    elif min(rows.microphone[0], rows.microphone[-1], rows.voltage[0], rows.voltage[-1]) <= 0:
        made.put("compression_end", None, why="the first or the last stretch is silent")
    else:
        first, last = (20 * np.log10(rows.microphone[k] / rows.voltage[k]) for k in (0, -1))
        made.put("compression_end", float(first - last), None)
    return notes


def _cold(rows: Rows, settings: EnduranceSettings, notes: list[str]) -> float | None:
    if settings.cold_resistance is not None:
        return settings.cold_resistance
    first = next((r for r in rows.resistance if np.isfinite(r) and r > 0), None)
    if first is not None:
        notes.append(f"No cold_resistance is given: the first stretch's, {first:.4g} ohm, is taken at"
                     f" {settings.cold():g} °C; if the coil was warm then, it is hotter than said here.")  # fmt: skip
    return first


def _curves(rows: Rows, every: float, held: Mapping[str, Channel], settings: EnduranceSettings) -> tuple[Curve, ...]:
    t = points((np.arange(len(rows.power)) + 0.5) * every)
    made = []
    if rows.resistance:
        r = np.array(rows.resistance)
        cold = _cold(rows, settings, [])
        if cold is not None:
            heat = endurance.coil_temperature(r, cold, settings.cold(), settings.alpha())
            made.append(Curve("coil_temperature", "Coil", t, points(heat), "s", "°C"))
        made.append(Curve("resistance", "Resistance", t, points(r), "s", "ohm"))
    made.append(Curve("power", "Power", t, points(rows.power), "s", "W"))
    made.append(Curve("rms_voltage", "Voltage", t, points(rows.voltage), "s", "V"))
    if "temperature" in held:
        beside = held["temperature"]
        if beside.unit in ("°C", "℃", "degC", "C", "K"):
            off = 273.15 if beside.unit == "K" else 0.0
            values = [beside.between(k * every, (k + 1) * every) - off for k in range(len(rows.power))]
            made.append(Curve("temperature", "Beside it", t, points([v.mean() if v.size else np.nan for v in values]),
                              "s", "°C"))  # fmt: skip
    return tuple(made)
