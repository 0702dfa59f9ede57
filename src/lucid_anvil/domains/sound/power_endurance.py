"""Power for hours: coil temperature, resistance, power and what the sound loses (IEC 60268-5, IEC 60268-21)."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, model_validator

from ...contracts.finding import Curve, Finding
from ...contracts.method import Axis, BenchFacts, CourseItem, Facts, Input, Performance, overload_limits, record_of
from ...contracts.recording import Channel, Floats
from ...contracts.samples import Readings, listed, points, together
from ...contracts.settings import Model, Seconds, quantity
from ...contracts.sketch import level, line
from ...core.audio.endurance import ALUMINIUM, COPPER, coil_temperature, impedance_at
from ...core.audio.programme import clip_for, magnitudes
from ...core.errors import BadInput
from ...core.quantities import degrees, factor, parse, same_kind, split
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
CELSIUS = ("°C", "℃", "degC", "C", "K")
LOUD = 0.2
"""Of the loudest stretch: what is below it in a take of ours is a pause"""


class Probe(Model):
    """A tone far below the signal."""

    frequency: Annotated[float, quantity("Hz")]

    @model_validator(mode="after")
    def _positive(self) -> Probe:
        if self.frequency <= 0:
            raise ValueError("frequency: it must be above zero.")
        return self


class Stage(Model):
    """One stage of the programme."""

    duration: Seconds = 60.0
    by: Annotated[float, quantity("dB")] = 0.0
    """Off the level of the whole"""
    on: Seconds | None = None
    """Noise for so long, then a pause, again and again; without it all the time"""
    off: Seconds | None = None

    @model_validator(mode="after")
    def _sensible(self) -> Stage:
        if self.duration <= 0 or self.by > 20 or (self.on is None) != (self.off is None):
            raise ValueError("duration must be above zero, by at most 20 dB; on and off go together.")
        if self.on is not None and min(self.on, self.off or 0.0) < 1.0:
            raise ValueError("on and off must last a second each at least.")
        return self


class KnownDriver(Model):
    """What the guard of its excursion must know."""

    force_factor: Annotated[float, quantity("N/A")]
    moving_mass: Annotated[float, quantity("kg")]
    resonance: Annotated[float, quantity("Hz")]
    quality: float
    """Mechanical"""
    excursion: Annotated[float, quantity("m")]
    """Peak at which the drive is cut"""

    @model_validator(mode="after")
    def _positive(self) -> KnownDriver:
        if min(self.force_factor, self.moving_mass, self.resonance, self.quality, self.excursion) <= 0:
            raise ValueError("all must be above zero.")
        return self


class ProgrammeSettings(Model):
    """What is played where a driver is there; a record knows nothing of it."""

    model_config = {**Model.model_config, "populate_by_name": True}
    level: Any = "5 V"
    """At the terminals: rms in V, or W on a resistance"""
    on: Literal["rated", "minimum", "dc"] = "rated"
    """On which resistance W are meant; dc: the coil's own, cold"""
    rated: Annotated[float, quantity("ohm")] = 8.0
    minimum: Annotated[float, quantity("ohm")] | None = None
    """Its smallest impedance"""
    shape: Literal["pink", "white", "curve"] = "pink"
    curve: list[list[float]] = Field(default_factory=list)
    """Rows of [Hz, dB], power in equal shares of an octave"""
    low: Annotated[float, quantity("Hz")] = Field(40.0, alias="from")
    high: Annotated[float, quantity("Hz")] = Field(10e3, alias="to")
    crest: float = 2.0
    """Peak over rms of the noise, a ratio (IEC 60268-5 has 1.8 to 2.2)"""
    probe_below: Annotated[float, quantity("dB")] = 40.0
    """Of the probe tone under the level"""
    stages: list[Stage] = Field(default_factory=lambda: [Stage.model_validate({})], min_length=1)
    seed: int = 1
    hottest: Any = "180 °C"
    """Of the coil, at which the drive is cut"""
    driver: KnownDriver | None = None

    @model_validator(mode="after")
    def _sensible(self) -> ProgrammeSettings:
        if not 0 < self.low < self.high or not 20 <= self.probe_below <= 80:
            raise ValueError("from must lie below to, and probe_below between 20 and 80 dB.")
        if self.on == "minimum" and self.minimum is None:
            raise ValueError("minimum: give the smallest impedance, or another resistance to mean W on.")
        clip_for(self.crest)
        magnitudes(self.shape, self.low, self.high, self.curve, np.array([self.low, self.high]))
        degrees(self.hottest, "hottest")
        if self.volts(1.0) is None or (self.volts(1.0) or 0.0) <= 0:
            raise ValueError("level: it must be above zero.")
        return self

    def volts(self, cold: float | None) -> float | None:
        """rms at the terminals; None where W on the coil are meant and it is not measured yet. Raises BadInput."""
        text = str(self.level)
        if not isinstance(self.level, str) or not same_kind(split(text)[1] or "V", "W"):
            return parse(self.level, "V", "level")
        ohms = {"rated": self.rated, "minimum": self.minimum, "dc": cold}[self.on]
        watts = parse(text, "W", "level")
        return None if ohms is None else float(np.sqrt(max(watts, 0.0) * ohms))


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
    play: ProgrammeSettings = Field(default_factory=lambda: ProgrammeSettings.model_validate({}))

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
        return ALUMINIUM if self.wire == "aluminium" else COPPER

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
    sketch = (line(lambda x: 0.12 + 0.7 * (1 - math.exp(-4 * x))), level(0.92))
    reads_only = False
    kinds = ("voltage",)
    usual = {"probe": {"frequency": "4 Hz"}, "play": {"level": "5 V", "stages": [{"duration": "60 s"}]}}
    walk_round = (
        {"key": "part", "text": "Driver in its place, its leads on, its air free"},
        {"key": "cold", "text": "Driver at the room's temperature"},
        {"key": "ears", "text": "Nobody near it without ear protection"},
    )
    told = ("programme",)
    orders = ("hold", "level", "skip")
    hold_word = "Mute"
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
        return self.together([(record, settings, marks)])

    def together(
        self, parts: Sequence[tuple[Mapping[str, Channel], EnduranceSettings, Sequence[Mapping[str, Any]]]]
    ) -> Finding:
        """Takes that go on from one another count as one, by the programme's own time."""
        settings = parts[-1][1]
        made, rows = Readings(KEYS, settings), Rows()
        for record, _, marks in parts:
            _walk(rows, record, settings, marks)
        notes = _readings(made, rows, settings)
        if len(parts) > 1:
            gone = rows.times[-1][0]
            notes.append(f"It went on {len(parts) - 1} times in another take, the last time after {gone:.0f} s of the"
                         " programme: what the coil cooled meanwhile is in no record.")  # fmt: skip
        return Finding(self.name, made.all(), _curves(rows, settings), notes=tuple(notes))

    # --- running ---------------------------------------------------------------------------------------------

    def course(self, settings: EnduranceSettings) -> list[CourseItem]:
        play = settings.play
        made = [CourseItem("Gain, cold coil", settings.every + 1.0)]
        for stage in play.stages:
            by = f", {stage.by:+g} dB" if stage.by else ""
            pause = f", {stage.on:g} s on, {stage.off:g} s off" if stage.on else ""
            made.append(CourseItem(f"{str(play.level).strip()}{by}{pause}".replace("-", "−"), stage.duration))
        return made

    def perform(self, settings: EnduranceSettings, facts: Facts, start: Mapping[str, Any] | None = None) -> Performance:
        from .endurance_run import perform

        return perform(settings, facts, start)

    def guarded(self, settings: EnduranceSettings, inputs: Sequence[Input]) -> dict[str, Any]:
        """Coil and cone are watched in the guards' process; what they must know is said here."""
        if settings.probe is None:
            return {}
        play = settings.play
        window = max(2.0, 8 / settings.probe.frequency)
        coil = {"probe": settings.probe.frequency, "cold_resistance": settings.cold_resistance,
                "cold_temperature": settings.cold(), "alpha": settings.alpha(), "window": window,
                "driver": play.driver.model_dump() if play.driver else None}  # fmt: skip
        guards: list[dict[str, Any]] = [
            {"watch": "coil_heat", "limit": degrees(play.hottest, "hottest"), "action": "ease"},
            {"watch": "coil_whole", "action": "cut"},
        ]
        if play.driver is not None:
            guards.append({"watch": "excursion", "limit": play.driver.excursion, "action": "cut"})
        return {"coil": coil, "guards": guards}

    def fill(self, given: dict[str, Any], bench: BenchFacts) -> dict[str, Any]:
        made = super().fill(given, bench)
        if "microphone" in bench.sensitivity:
            made.setdefault("microphone_sensitivity", f"{1e3 * bench.sensitivity['microphone']!r} mV/Pa")
        made["input_range"] = {r: v for r, v in made.get("input_range", {}).items() if r != "current"}
        return made


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
    """One value a stretch, and sums over all that was recorded."""

    def __init__(self) -> None:
        self.times: list[tuple[float, float]] = []
        """s at which a piece of the programme begins, and s of a stretch"""
        self.middle: list[float] = []
        self.resistance: list[float] = []
        self.power: list[float] = []
        self.voltage: list[float] = []
        self.microphone: list[float] = []
        self.beside: list[float] = []
        """°C of a sensor beside it"""
        self.top, self.squares, self.work, self.count, self.duration = 0.0, 0.0, 0.0, 0, 0.0
        self.overloaded = self.own = False
        self.cold: float | None = None
        """ohm, of the probe alone before the programme"""
        self.cold_halves: list[float] = []
        self.halves: list[float] = []
        """ohm in each half of each stretch in turn"""
        self.loss_halves: list[float] = []
        """dB of sound over voltage, likewise"""


def _walk(
    rows: Rows, record: Mapping[str, Channel], settings: EnduranceSettings, marks: Sequence[Mapping[str, Any]]
) -> None:
    """One record, or one of our takes: that holds the coil cold first, then a piece of the programme. Raises
    BadInput."""
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
    cold = next((m for m in marks if m.get("kind") == "cold"), None)
    begun = next((m for m in marks if m.get("kind") == "programme"), None)
    first, last, at = 0, n, 0.0
    if cold is not None and settings.probe is not None and rows.cold is None:
        a, b = (min(max(int(round(cold[k] * rate)), 0), n) for k in ("start", "stop"))
        if b - a >= 16:
            v, i = (held[r].samples(a, b) * scale[r] for r in ("voltage", "current"))
            rows.cold = float(impedance_at(v, i, rate, settings.probe.frequency).real)
            rows.cold_halves = _halves(v, i, rate, settings.probe.frequency)
    if begun is not None:
        ended = next((m for m in marks if m.get("kind") == "programme ended"), None)
        first, at, rows.own = min(int(round(begun["start"] * rate)), n), float(begun["at"]), True
        last = n if ended is None else min(int(round(ended["t"] * rate)), n)
    _walked(rows, held, scale, (first, max(last, first)), length, rate, settings, at)


def _walked(
    rows: Rows, held: Mapping[str, Channel], scale: Mapping[str, float], between: tuple[int, int], length: int,
    rate: float, settings: EnduranceSettings, at: float,
) -> None:  # fmt: skip
    """Stretch by stretch, so that days fit into memory."""
    limits = overload_limits(held, settings, ("voltage", "current"))
    first, n = between
    rows.times.append((at, length / rate))
    rows.duration += (n - first) / rate
    for a in range(first, n, length):
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
        rows.middle.append(at + ((a - first) / length + 0.5) * (length / rate))
        rows.power.append(float(v @ i) / length)
        rows.voltage.append(float(np.sqrt(v @ v / length)))
        if settings.probe is not None:
            rows.resistance.append(impedance_at(v, i, rate, settings.probe.frequency).real)
            rows.halves += _halves(v, i, rate, settings.probe.frequency)
        if "microphone" in raw:
            rows.microphone.append(float(np.std(raw["microphone"])) * scale["microphone"])
            rows.loss_halves += _losses(raw["microphone"], v)
        if "temperature" in held and held["temperature"].unit in CELSIUS:
            near = held["temperature"].between(a / rate, b / rate)
            off = 273.15 if held["temperature"].unit == "K" else 0.0
            rows.beside.append(float(near.mean()) - off if near.size else float("nan"))


def _halves(v: Floats, i: Floats, rate: float, frequency: float) -> list[float]:
    """ohm in the first and in the second half; nothing where they are too short."""
    n = v.size // 2
    if n / rate * frequency < 4:
        return []
    return [impedance_at(v[k : k + n], i[k : k + n], rate, frequency).real for k in (0, n)]


def _losses(sound: Floats, v: Floats) -> list[float]:
    """dB of sound over voltage in the first and in the second half."""
    n = v.size // 2
    parts = [max(float(np.std(sound[k : k + n])), 1e-30) / max(float(np.std(v[k : k + n])), 1e-30) for k in (0, n)]
    return [20 * float(np.log10(p)) for p in parts]


def _scatter(halves: Sequence[float]) -> float | None:
    """Standard uncertainty of the mean of two halves, by the second differences of all in turn: what goes straight is
    no scatter. None for fewer than eight."""
    if len(halves) < 8:
        return None
    d = np.diff(np.array(halves), 2)
    d = d[np.isfinite(d)]
    return 1.4826 * float(np.median(np.abs(d))) / np.sqrt(6) / np.sqrt(2) if d.size else None


def _readings(made: Readings, rows: Rows, settings: EnduranceSettings) -> list[str]:
    notes: list[str] = []
    ok = not rows.overloaded
    why = None if ok else "an input was overloaded"
    rms = float(np.sqrt(rows.squares / max(rows.count, 1)))
    made.put("duration", rows.duration, 0.0)
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
            heat = coil_temperature(r, cold, settings.cold(), settings.alpha())
            # A share of the resistance is a share of T + 1/α − 20, in the cold and in the hot one.
            base = 1 / settings.alpha() - 20
            share = np.sqrt(2) * stated if stated else _share(rows, cold, settings)
            doubt = [float(share * abs(base + t)) if share else None for t in (np.nanmax(heat), heat[-1])]
            made.put("coil_temperature_max", float(np.nanmax(heat)), doubt[0], why, valid=ok)
            made.put("coil_temperature_end", float(heat[-1]), doubt[1], why, valid=ok)
            made.put("resistance_end", float(r[-1]), stated * float(r[-1]) if stated else None, why, valid=ok)
            if not stated and share:
                notes.append("The doubt of temperatures is the scatter of the resistance in this record: what voltage"
                             " and current are off by is in the cold coil too; the wire's coefficient counts as exact.")
            elif not stated:
                notes.append("No impedance_uncertainty is given: resistance and temperature have no doubt here.")
    _compression(made, rows)
    return notes


def _share(rows: Rows, cold: float, settings: EnduranceSettings) -> float:
    """Expanded uncertainty (k = 2) of hot over cold resistance, both by the same channels; 0 where it is not known."""
    s = _scatter(rows.halves)
    if s is None or settings.cold_resistance is not None:
        return 0.0
    before = max([s, *np.abs(np.diff(rows.cold_halves)) / 2])
    return float(2 * np.hypot(s, before) / abs(cold))


def _compression(made: Readings, rows: Rows) -> None:
    # Of our own takes the pauses are known to be none of it.
    loud = [k for k, v in enumerate(rows.voltage) if not rows.own or v >= LOUD * max(rows.voltage)]
    if len(rows.microphone) < 2 or len(loud) < 2:
        made.put(
            "compression_end", None, why="there is no microphone" if not rows.microphone else "there is one stretch"
        )
        return
    ends = (loud[0], loud[-1])
    if min(min(rows.microphone[k], rows.voltage[k]) for k in ends) <= 0:
        made.put("compression_end", None, why="the first or the last stretch is silent")
        return
    first, last = (20 * np.log10(rows.microphone[k] / rows.voltage[k]) for k in ends)
    spread = _scatter([rows.loss_halves[j] for k in loud for j in (2 * k, 2 * k + 1)])
    made.put("compression_end", float(first - last), None if spread is None else 2 * float(np.sqrt(2)) * spread)


def _cold(rows: Rows, settings: EnduranceSettings, notes: list[str]) -> float | None:
    if settings.cold_resistance is not None:
        return settings.cold_resistance
    if rows.cold is not None and rows.cold > 0:
        notes.append(f"Its cold resistance, {rows.cold:.4g} ohm, was measured before the programme and is taken at"
                     f" {settings.cold():g} °C: if the coil was warm then, it is hotter than said here.")  # fmt: skip
        return rows.cold
    first = next((r for r in rows.resistance if np.isfinite(r) and r > 0), None)
    if first is not None:
        notes.append(f"No cold_resistance is given: the first stretch's, {first:.4g} ohm, is taken at"
                     f" {settings.cold():g} °C; if the coil was warm then, it is hotter than said here.")  # fmt: skip
    return first


def _curves(rows: Rows, settings: EnduranceSettings) -> tuple[Curve, ...]:
    t = points(rows.middle)
    made = []
    if rows.resistance:
        r = np.array(rows.resistance)
        cold = _cold(rows, settings, [])
        if cold is not None:
            heat = coil_temperature(r, cold, settings.cold(), settings.alpha())
            made.append(Curve("coil_temperature", "Coil", t, points(heat), "s", "°C"))
        made.append(Curve("resistance", "Resistance", t, points(r), "s", "ohm"))
    made.append(Curve("power", "Power", t, points(rows.power), "s", "W"))
    made.append(Curve("rms_voltage", "Voltage", t, points(rows.voltage), "s", "V"))
    if rows.beside:
        made.append(Curve("temperature", "Beside it", t, points(rows.beside), "s", "°C"))
    return tuple(made)
