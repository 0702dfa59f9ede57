"""A loudspeaker driver judged from one short stimulus (IEC 60268-21 and -22)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, field_validator, model_validator

from ...contracts.finding import Curve, Finding
from ...contracts.method import Axis, BenchFacts, CourseItem, Facts, Performance, record_of
from ...contracts.recording import Channel, Floats
from ...contracts.samples import Readings, listed, points, samples_in, together
from ...contracts.settings import Model, quantity
from ...contracts.sketch import line
from ...core.audio import driver as core
from ...core.audio import excitation
from ...core.errors import BadInput
from ...core.quantities import factor, parse, same_kind
from .shared import PRESSURE, Band, SoundMethod, SoundSettings, band_inside, decibel, overloaded, pressure

KEYS = {
    "sensitivity": ("Sensitivity", "dB"),
    "resonance": ("Resonance", "Hz"),
    "impedance_minimum": ("Smallest impedance above the resonance", "ohm"),
    "thd_max": ("Harmonic distortion, largest", "%"),
    "rub_max": ("Rub, largest", "dB"),
    "loose": ("Loose particles", ""),
    "polarity": ("Polarity", ""),
    "delay": ("Delay", "s"),
}
SOUND = ("sensitivity", "thd_max", "rub_max", "loose", "polarity", "delay")
COIL = ("resonance", "impedance_minimum")


class ToneStep(Model):
    """One tone of a stepped stimulus."""

    frequency: Annotated[float, quantity("Hz")]
    start: Annotated[float, quantity("s")]
    stop: Annotated[float, quantity("s")]

    @model_validator(mode="after")
    def _ordered(self) -> ToneStep:
        if self.frequency <= 0 or not 0 <= self.start < self.stop:
            raise ValueError("frequency must be above zero, and stop come after start.")
        return self


class Orders(Model):
    """First and last order."""

    model_config = {**Model.model_config, "populate_by_name": True}
    low: int = Field(10, alias="from")
    high: int = Field(20, alias="to")

    @model_validator(mode="after")
    def _ordered(self) -> Orders:
        if not 2 <= self.low <= self.high <= core.HIGHEST:
            raise ValueError(f"orders go from 2 to {core.HIGHEST}, the lower first.")
        return self


class PlaySettings(Model):
    """What is played where a driver is there; a record knows nothing of it."""

    first: Annotated[float, quantity("Hz")] = 20e3
    """From high to low: the resonance comes last and rings out in silence"""
    last: Annotated[float, quantity("Hz")] = 20.0
    seconds: Annotated[float, quantity("s")] = 1.0
    level: Annotated[float, quantity("V")] = 2.83
    """rms at the terminals"""

    @model_validator(mode="after")
    def _sensible(self) -> PlaySettings:
        if min(self.first, self.last, self.level) <= 0 or not 0.1 <= self.seconds <= 60:
            raise ValueError("first, last and level must be above zero, seconds from 0.1 to 60.")
        if max(self.first, self.last) < 2 * min(self.first, self.last):
            raise ValueError("first and last: a sweep takes an octave at least.")
        return self


class DriverSettings(SoundSettings):
    """Channels, what was driven, and where it is judged."""

    microphone_sensitivity: Any = None
    """mV/Pa, of a microphone that is recorded in volts"""
    current_scale: Annotated[float, quantity("A/V")] | None = None
    """Of a current that is recorded in volts"""
    distance: Annotated[float, quantity("m")] = 1.0
    """Of the microphone; levels are given for 1 m, by 1/r"""
    reference_level: Any = 2.83
    """V rms at the terminals that levels are given for; none: as driven"""
    stimulus_kind: Literal["auto", "sweep", "stepped"] = "auto"
    steps: list[ToneStep] = Field(default_factory=list)
    """{frequency, start, stop} of a stepped stimulus; found when missing"""
    band: Band = Field(default_factory=lambda: Band.between(200.0, 10e3))
    """{from, to} of sensitivity and the largest values"""
    rub: Orders = Field(default_factory=lambda: Orders.model_validate({}))
    """{from, to}, orders"""
    loose_threshold: float = 10.0
    """Energy in 1 ms over the median about it"""
    impedance_uncertainty: Annotated[float, quantity("%")] | None = None
    """Expanded (k = 2)"""
    play: PlaySettings = Field(default_factory=PlaySettings)

    @field_validator("reference_level")
    @classmethod
    def _level(cls, value: Any) -> float | None:
        if value is None or (isinstance(value, str) and value.strip().lower() == "none"):
            return None
        made = parse(value, "V", "reference_level")
        if made <= 0:
            raise ValueError("it must be above zero, or none.")
        return made

    @model_validator(mode="after")
    def _sensible(self) -> DriverSettings:
        if self.distance <= 0 or self.loose_threshold <= 1 or (self.current_scale or 1.0) <= 0:
            raise ValueError("distance and current_scale must be above zero, loose_threshold above 1.")
        if self.steps and self.stimulus_kind == "sweep":
            raise ValueError("steps: a sweep has none.")
        return self


class DriverCheck(SoundMethod):
    """The method as the registry knows it."""

    name = "driver-check"
    title = "Driver check"
    roles = ("stimulus",)
    optional_roles = ("microphone", "current")
    about = "Whether a loudspeaker driver is good: response, impedance, distortion, rub, loose particles"
    sketch = (line(lambda x: 0.1 + 0.6 * x**3 / (x**3 + 0.02) - 0.4 * max(x - 0.75, 0)),
              line(lambda x: 0.1 + 0.4 / (1 + ((x - 0.25) / 0.05) ** 2)))
    reads_only = False
    kinds = ("pressure",)
    usual = {"play": {"level": "2.83 V", "seconds": "1 s"}}
    walk_round = (
        {"key": "part", "text": "Driver on its baffle, its leads on"},
        {"key": "microphone", "text": "Microphone in its place"},
    )
    told = ("sweep",)
    Settings = DriverSettings
    readings = listed(KEYS)
    curves = {
        "response": "Level [dB re 20 µPa] at 1 m over Hz", "phase": "Phase [deg], delay taken off",
        "impedance": "Impedance [ohm]", "impedance_phase": "Its phase [deg]",
        "thd": "Orders 2 to 10 over the fundamental [%]", "rub": "High orders over the fundamental [dB]",
    }  # fmt: skip
    views = (
        Axis("response", "Response", ("response",), "Hz", "dB", x_log=True),
        Axis("impedance", "Impedance", ("impedance",), "Hz", "ohm", x_log=True),
        Axis("thd", "Distortion", ("thd",), "Hz", "%", x_log=True, y_log=True),
        Axis("rub", "Rub", ("rub",), "Hz", "dB", x_log=True),
        Axis("phase", "Phase", ("phase", "impedance_phase"), "Hz", "deg", x_log=True),
    )

    def evaluate(
        self, record: Mapping[str, Channel], settings: DriverSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        held = record_of(record, settings)
        there = tuple(r for r in ("microphone", "current") if r in held)
        if not there:
            raise BadInput("there is no microphone and no current: one of them is needed.")
        rate, n = together(held, ("stimulus", *there))
        # In a take of ours the sweep begins where its mark says: what found the gain before is none of it.
        a = max((int(m["start"] * rate) for m in marks if m.get("kind") == "sweep"), default=0)
        x = samples_in(held, "stimulus", "V")[a:n]
        heard = pressure(held, "microphone", settings.microphone_sensitivity)[a:n] if "microphone" in there else None
        flows = _current(held, settings)[a:n] if "current" in there else None
        made = Readings(KEYS, settings)
        s = excitation.stimulus_of(x, rate)
        why = "there is no stimulus in this record" if s is None else overloaded(held, settings, ("stimulus", *there))
        if s is None or why:
            for key in KEYS:
                made.put(key, None, why=why, valid=False)
            return Finding(self.name, made.all(), notes=(str(why),))
        kind = settings.stimulus_kind
        stepped = bool(settings.steps) or kind == "stepped" or (kind == "auto" and excitation.is_stepped(s))
        if stepped:
            steps = _steps(settings, s, rate, n - a)
            found = core.stepped(x, heard, flows, rate, steps)
        else:
            low, high = excitation.range_of(s)
            if high < 1.2 * low:
                raise BadInput("the stimulus neither glides nor steps: give its steps, or record a sweep.")
            found = core.swept(x, heard, flows, s, settings.loose_threshold)
        curves = _curves(found, settings)
        notes = _read(made, found, curves, settings, stepped)
        return Finding(self.name, made.all(), tuple(curves.values()), notes=tuple(notes),
                       detail={"loose": list(found.loose)} if found.loose else None)  # fmt: skip

    # --- running ---------------------------------------------------------------------------------------------

    def course(self, settings: DriverSettings) -> list[CourseItem]:
        p = settings.play
        return [CourseItem("Gain", 0.15), CourseItem(f"Sweep, {p.level:g} V", p.seconds + 0.2, p.first, until=p.last)]

    def perform(self, settings: DriverSettings, facts: Facts, start: Mapping[str, Any] | None = None) -> Performance:
        from .driver_run import perform

        return perform(settings, facts)

    def fill(self, given: dict[str, Any], bench: BenchFacts) -> dict[str, Any]:
        made = super().fill(given, bench)
        if "microphone" in bench.sensitivity:
            made.setdefault("microphone_sensitivity", f"{1e3 * bench.sensitivity['microphone']!r} mV/Pa")
        made["input_range"] = {r: v for r, v in made.get("input_range", {}).items() if r != "current"}
        return made


METHOD = DriverCheck()


def _current(held: Mapping[str, Channel], settings: DriverSettings) -> Floats:
    channel = held["current"]
    if settings.current_scale is not None and same_kind(channel.unit or "V", "V"):
        return channel.samples() * (settings.current_scale * factor(channel.unit or "V", "V"))
    return samples_in(held, "current", "A")


def _steps(settings: DriverSettings, s: excitation.Stimulus, rate: float, n: int) -> list[tuple[float, int, int]]:
    """Hz, first and last sample of each tone. Raises BadInput."""
    if not settings.steps:
        found = excitation.stretches(s)
        if not found:
            raise BadInput("no tone of a stepped stimulus was found: give its steps.")
        return found
    made = []
    for i, step in enumerate(settings.steps, start=1):
        a, b = int(round(step.start * rate)), int(round(step.stop * rate))
        if b > n + 1.5:
            raise BadInput(f"steps, {i}: the record ends at {n / rate:g} s, before {step.stop:g} s.")
        if step.frequency >= rate / 2:
            raise BadInput(f"steps, {i}: a record at {rate:g} Hz can't hold {step.frequency:g} Hz.")
        if (b - a) / rate * step.frequency < 4:
            raise BadInput(f"steps, {i}: it is shorter than four periods of {step.frequency:g} Hz.")
        made.append((step.frequency, a, min(b, n)))
    return made


def _curves(found: core.Driver, settings: DriverSettings) -> dict[str, Curve]:
    x = points(found.frequency)
    made: dict[str, Curve] = {}
    if found.response is not None and found.scatter is not None:
        level = found.level if settings.reference_level is None else np.full(len(x), settings.reference_level)
        y = decibel(found.response * level * settings.distance / PRESSURE)
        with np.errstate(divide="ignore", invalid="ignore"):
            share = 2 * found.scatter / np.abs(found.harmonics[:, 0])  # type: ignore[index]
            doubt = np.hypot(20 * np.log10(1 + share), settings.level_uncertainty or 0.0)
        made["response"] = Curve("response", "Level at 1 m", x, points(y), "Hz", "dB", points(doubt), 2.0)
        if found.delay is not None:
            turned = found.response * np.exp(2j * np.pi * found.frequency * found.delay)
            made["phase"] = Curve("phase", "Phase", x, points(np.degrees(np.angle(turned))), "Hz", "deg")
        thd = 100 * core.over_fundamental(found, 2, 10)
        rub = decibel(core.over_fundamental(found, settings.rub.low, settings.rub.high))
        with np.errstate(invalid="ignore", divide="ignore"):
            made["thd"] = Curve("thd", "Harmonic distortion", x, points(thd), "Hz", "%", points(100 * share), 2.0)
            above = 20 * np.log10(1 + share / np.maximum(10 ** (rub / 20), 1e-300))
        made["rub"] = Curve("rub", f"Orders {settings.rub.low} to {settings.rub.high}", x, points(rub), "Hz", "dB",
                            points(above), 2.0)  # fmt: skip
    if found.admittance is not None:
        z = 1 / found.admittance
        made["impedance"] = Curve("impedance", "Impedance", x, points(np.abs(z)), "Hz", "ohm")
        made["impedance_phase"] = Curve("impedance_phase", "Phase of the impedance", x,
                                        points(np.degrees(np.angle(z))), "Hz", "deg")  # fmt: skip
    return made


def _values(curve: Curve) -> Floats:
    return np.array([np.nan if v is None else v for v in curve.y])


def _read(
    made: Readings, found: core.Driver, curves: Mapping[str, Curve], settings: DriverSettings, stepped: bool
) -> list[str]:
    notes = []
    f = found.frequency
    if found.response is None:
        made.absent(SOUND, "there is no microphone")
    else:
        band_inside(settings.band, f, "band")
        _sound(made, found, curves, settings, stepped)
        if settings.level_uncertainty is None:
            notes.append("No level_uncertainty is given: the doubt of levels is of the record alone.")
    if found.admittance is None:
        made.absent(COIL, "there is no current")
        return notes
    z = np.abs(1 / found.admittance)
    stated = (settings.impedance_uncertainty or 0.0) / 100
    top = core.resonance(f, z)
    if top is None:
        made.absent(COIL, "no largest impedance lies inside the record below 1 kHz")
    else:
        step = float(np.log(2) / core.PER_OCTAVE) if not stepped else float(np.median(np.diff(np.log(f))))
        made.put("resonance", top[0], 0.1 * step * top[0])
        above = z[f > top[0]]
        made.put("impedance_minimum", float(np.nanmin(above)), stated * float(np.nanmin(above)) if stated else None)
        if not stated:
            notes.append("No impedance_uncertainty is given: the impedance has no doubt here.")
    return notes


def _sound(
    made: Readings, found: core.Driver, curves: Mapping[str, Curve], settings: DriverSettings, stepped: bool
) -> None:
    f, band = found.frequency, settings.band
    inside = (f >= band.low / 1.0005) & (f <= band.high * 1.0005)
    level = _values(curves["response"])
    mean = core.power_mean(f, level, band.low, band.high)
    doubts = np.array([np.nan if v is None else v for v in curves["response"].uncertainty or ()])
    # Scatter of single points averages out; what is stated of the microphone does not.
    doubt = float(np.nanmean(doubts[inside])) if np.isfinite(doubts[inside]).any() else None
    made.put("sensitivity", mean, doubt, "the record does not reach over all of the band")
    for key, curve in (("thd_max", curves["thd"]), ("rub_max", curves["rub"])):
        values = np.where(inside, _values(curve), np.nan)
        if not np.isfinite(values).any():
            made.put(key, None, why="none of its orders lies below half the rate there")
            continue
        top = int(np.nanargmax(values))
        spread = (curve.uncertainty or ())[top]
        made.put(key, float(values[top]), spread)
    if found.loose is None:
        made.put("loose", None, why="particles are told from a sweep: the changes between tones are instants too")
    else:
        made.put("loose", float(len(found.loose)), 0.0)
    made.put("polarity", None if found.polarity is None else float(found.polarity), 0.0,
             "tones too far apart do not tell it")  # fmt: skip
    made.put("delay", found.delay, None, "tones too far apart do not tell it")
