"""Dynamic mechanical analysis: storage, loss and tan delta over frequency, temperature or time (ISO 6721)."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, field_validator, model_validator

from ...contracts.finding import Curve, Finding
from ...contracts.method import Axis, BenchFacts, Calibrated, CourseItem, Facts, Input, Performance
from ...contracts.recording import Channel, Floats
from ...contracts.samples import (
    Readings,
    celsius,
    known_roles,
    listed,
    points,
    samples_in,
    share_of,
    together,
    unstated,
)
from ...contracts.settings import Model, quantity
from ...contracts.sketch import line
from ...core.errors import BadInput
from ...core.frame import dynamic
from ...core.quantities import degrees, factor, parse
from .dma_nest import AXES, missed, nested, words_of
from .shared import FrameMethod, FrameSettings, length_in, sensed

KEYS = {
    "tg_storage_onset": ("Transition, onset of the storage modulus", "°C"),
    "tg_loss_peak": ("Transition, peak of the loss modulus", "°C"),
    "tg_tan_peak": ("Transition, peak of tan delta", "°C"),
}
MOVING = 5.0
"""K by which temperature must move for curves to stand over it"""


class Geometry(Model):
    """How the specimen is held, and its sizes."""

    kind: Literal["tension", "compression", "three_point", "single_cantilever", "dual_cantilever", "shear"]
    length: Annotated[float, quantity("m")] | None = None
    """Between supports or grips; of each side for dual_cantilever"""
    width: Annotated[float, quantity("m")] | None = None
    thickness: Annotated[float, quantity("m")] | None = None
    area: Annotated[float, quantity("m^2")] | None = None
    """Width times thickness when missing; of each of both pieces for shear"""

    def factor(self) -> float:
        """Modulus over stiffness [1/m]. Raises BadInput where a size is missing."""
        values = {k: getattr(self, k) for k in ("length", "width", "thickness", "area")}
        if any(v is not None and v <= 0 for v in values.values()):
            raise BadInput("geometry: sizes must be above zero.")
        area = values["area"]
        if area is None and values["width"] is not None and values["thickness"] is not None:
            area = values["width"] * values["thickness"]
        needs = {"tension": ("length", "area"), "compression": ("length", "area"), "shear": ("thickness", "area")}
        given = {**values, "area": area}
        for key in needs.get(self.kind, ("length", "width", "thickness")):
            if given[key] is None:
                raise BadInput(f"geometry: its {key} is missing: {self.kind.replace('_', ' ')} needs it.")
        if self.kind == "shear" and values["area"] is None:
            raise BadInput("geometry: its area is missing: shear needs that of each piece.")
        return dynamic.modulus_factor(
            self.kind, *(float(given[k] or 0.0) for k in ("length", "width", "thickness", "area"))
        )


class Step(Model):
    """A stretch at one frequency."""

    frequency: Annotated[float, quantity("Hz")]
    start: Annotated[float, quantity("s")]
    stop: Annotated[float, quantity("s")]

    @model_validator(mode="after")
    def _ordered(self) -> Step:
        if self.frequency <= 0 or not 0 <= self.start < self.stop:
            raise ValueError("frequency must be above zero, and stop come after start.")
        return self


class OwnPhase(Model):
    """The instrument's own phase at a frequency, as a steel blank showed it."""

    frequency: Annotated[float, quantity("Hz")]
    phase: Annotated[float, quantity("deg")]
    """Force before length"""
    uncertainty: Annotated[float, quantity("deg")] = 0.0
    """Expanded (k = 2)"""

    @model_validator(mode="after")
    def _sensible(self) -> OwnPhase:
        if self.frequency <= 0 or self.uncertainty < 0:
            raise ValueError("frequency must be above zero, uncertainty not below.")
        return self


class Ramp(Model):
    """Temperature from one to another."""

    model_config = {**Model.model_config, "populate_by_name": True}
    first: Any = Field(alias="from")
    """°C"""
    last: Any = Field(alias="to")
    """°C"""
    rate: Any = "2 K/min"

    @model_validator(mode="after")
    def _sensible(self) -> Ramp:
        self.first, self.last = degrees(self.first, "from"), degrees(self.last, "to")
        text = str(self.rate).replace("°C", "K")
        self.rate = parse(text if isinstance(self.rate, str) else self.rate, "K/s", "rate")
        if self.rate <= 0 or abs(self.last - self.first) < 1:
            raise ValueError("rate must be above zero, from and to a degree apart at least.")
        return self

    def at(self, seconds: float) -> float:
        """°C so long after it began."""
        way = self.last - self.first
        return float(self.first + np.sign(way) * min(max(seconds, 0.0) * self.rate, abs(way)))


class DynamicSettings(Model):
    """What is driven where a frame is there; a record knows nothing of it."""

    frequencies: list[Annotated[float, quantity("Hz")]] = Field(default_factory=lambda: [1.0], min_length=1)
    """One with a ramp of temperature; in turn without"""
    temperature: Ramp | None = None
    """{from, to, rate} that the chamber takes it through"""
    at: Any = None
    """°C at which the frequencies are measured; as it is when missing"""
    temperatures: list[Any] = Field(default_factory=list)
    """°C in turn, the specimen soaked at each; every frequency is measured at every one"""
    amplitudes: list[Annotated[float, quantity("m")]] = Field(default_factory=list)
    """In turn at every frequency, in place of the one below"""
    duration: Annotated[float, quantity("s")] | None = None
    """For so long, one point after the other, at one frequency and as it is kept: how it changes with time"""
    amplitude: Annotated[float, quantity("m")] = 15e-6
    """Of the length, as long as its force lies within what follows"""
    smallest_force: Annotated[float, quantity("N")] = 0.05
    """Amplitude of the force below which it can't be told: the length's is raised"""
    largest_force: Annotated[float, quantity("N")] = 25.0
    smallest_amplitude: Annotated[float, quantity("m")] = 1e-6
    largest_amplitude: Annotated[float, quantity("m")] = 300e-6
    largest_mean: Annotated[float, quantity("m")] = 1.5e-3
    """By which the mean force may stretch it at most"""
    track: Annotated[float, quantity("%")] = 130.0
    """Mean force, of the amplitude of the force: above 100 keeps it taut"""
    least_force: Annotated[float, quantity("N")] = 0.5
    """Mean force at least, and while the chamber goes to its start"""
    approach: Annotated[float, quantity("m/s")] = 10e-6
    spread: Annotated[float, quantity("%")] = 1.0
    """By which two windows may differ for a frequency to count as settled"""
    most_windows: int = 12

    @field_validator("at")
    @classmethod
    def _degrees(cls, value: Any) -> float | None:
        return None if value is None else degrees(value, "at")

    @field_validator("temperatures")
    @classmethod
    def _each(cls, value: list[Any]) -> list[float]:
        return [degrees(v, "temperatures") for v in value]

    @model_validator(mode="after")
    def _sensible(self) -> DynamicSettings:
        if min(self.frequencies) <= 0 or self.most_windows < 2 or self.spread <= 0 or self.approach <= 0:
            raise ValueError("frequencies, spread and approach must be above zero, most_windows 2 or more.")
        if not 0 < self.smallest_amplitude <= self.amplitude <= self.largest_amplitude:
            raise ValueError("amplitude: it lies between smallest_amplitude and largest_amplitude, above zero.")
        if not 0 < self.smallest_force < self.largest_force or self.least_force <= 0:
            raise ValueError("smallest_force must lie below largest_force, and least_force above zero.")
        if self.track < 100:
            raise ValueError("track: below 100 % the specimen would go slack in every period.")
        if any(not self.smallest_amplitude <= a <= self.largest_amplitude for a in self.amplitudes):
            raise ValueError("amplitudes: each lies between smallest_amplitude and largest_amplitude.")
        if self.temperature is not None and (len(self.frequencies) > 1 or len(self.amplitudes) > 1):
            raise ValueError("frequencies: a ramp of temperature takes one, and one amplitude.")
        if len({round(t, 1) for t in self.temperatures}) < len(self.temperatures):
            raise ValueError("temperatures: each stands once.")
        if self.temperatures and (self.temperature is not None or self.at is not None):
            raise ValueError("temperatures: they stand in place of `temperature` and `at`.")
        if self.duration is not None:
            if self.duration <= 0:
                raise ValueError("duration must be above zero.")
            several = len(self.frequencies) > 1 or len(self.amplitudes) > 1
            if self.temperature is not None or self.temperatures or several:
                raise ValueError("duration: it takes one frequency, one amplitude and one temperature, `at`.")
        return self

    @property
    def swings(self) -> list[float]:
        """m, in turn."""
        return self.amplitudes or [self.amplitude]

    @property
    def soaks(self) -> list[float | None]:
        """°C, in turn; nothing: as it is."""
        return list(self.temperatures) or [self.at]


class DmaSettings(FrameSettings):
    """The specimen, what lies in series with it, and where to read."""

    geometry: Geometry
    frequency: Annotated[float, quantity("Hz")] | None = None
    """Found when missing"""
    steps: list[Step] = Field(default_factory=list)
    """{frequency, start, stop}: one point each, before all else"""
    compliance: Annotated[float, quantity("m/N")] = 0.0
    """Of the machine, in series with the specimen"""
    instrument: list[OwnPhase] = Field(default_factory=list)
    """{frequency, phase, uncertainty}: the instrument's own phase between force and length, taken off"""
    window: int = 5
    """Periods of one point"""
    temperature_uncertainty: Annotated[float, quantity("K")] | None = None
    """Expanded (k = 2), of the specimen's temperature"""
    play: DynamicSettings = Field(default_factory=DynamicSettings)

    @model_validator(mode="after")
    def _sensible(self) -> DmaSettings:
        if self.window < 1 or self.compliance < 0 or (self.frequency is not None and self.frequency <= 0):
            raise ValueError("window must be 1 or more, frequency above zero, compliance not below it.")
        at = [p.frequency for p in self.instrument]
        if at != sorted(set(at)):
            raise ValueError("instrument: its frequencies must rise from row to row.")
        return self

    def turned(self, frequency: float) -> tuple[complex, float]:
        """Factor on a stiffness at a frequency [Hz] that takes the instrument's own phase off, and the expanded
        uncertainty of that [rad]: by straight lines between the frequencies at which it was measured, and from none at
        rest to the lowest. One and not a number beyond the highest, where nobody measured it."""
        own = self.instrument
        if not own or frequency > 1.01 * own[-1].frequency:
            return 1.0 + 0j, math.nan
        x = [0.0, *(p.frequency for p in own)]
        phase = np.interp(frequency, x, [0.0, *(p.phase for p in own)])
        doubt = np.interp(frequency, x, [own[0].uncertainty, *(p.uncertainty for p in own)])
        return complex(np.exp(-1j * np.radians(phase))), float(np.radians(doubt))


class Dma(FrameMethod):
    """The method as the registry knows it."""

    name = "dma"
    title = "Dynamic mechanical analysis"
    steady = True
    roles = ("force", "displacement")
    optional_roles = ("temperature",)
    about = "Storage and loss modulus of a specimen, and the temperature at which it softens"
    sketch = (line(lambda x: 0.88 - 0.7 / (1 + math.exp(-22 * (x - 0.5)))),
              line(lambda x: 0.1 + 0.5 / (1 + ((x - 0.54) / 0.08) ** 2)))
    reads_only = False
    kinds = ("length",)
    usual = {
        "geometry": {"kind": "tension", "length": "30 mm", "width": "10 mm", "thickness": "2 mm"},
        "play": {"temperature": {"from": "40 °C", "to": "100 °C", "rate": "2 K/min"}},
    }
    walk_round = (
        {"key": "grips", "text": "Specimen in both grips, straight, its sizes measured"},
        {"key": "sensor", "text": "Temperature sensor beside it, not touching the grips"},
        {"key": "chamber", "text": "Chamber closed, its door latched"},
        {"key": "door", "text": "Guard door, emergency stop", "sense": "interlocks"},
        {"key": "answers", "text": "Chamber answers", "sense": "chamber"},
    )
    told = ("ramp", "point")
    knows = {"compliance": "frame", "instrument": "frame_phase"}
    Settings = DmaSettings
    readings = listed(KEYS)
    curves = {
        "storage": "Storage modulus [MPa] over Hz with steps, over °C where temperature moves, else over s",
        "loss": "Loss modulus [MPa]",
        "tan_delta": "Loss over storage",
        "storage_2": "... at the second frequency or amplitude of a nest, and so on; loss and tan_delta likewise",
    }
    views = (
        Axis("modulus", "Modulus", ("storage*", "loss*"), "", "MPa", y_log=True),
        Axis("tan_delta", "Tan delta", ("tan_delta*",), "", ""),
    )

    def evaluate(
        self, record: Mapping[str, Channel], settings: DmaSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        known_roles(settings.sensitivity, record, "sensitivity")
        by = settings.geometry.factor()
        there = ["temperature"] if "temperature" in record else []
        rate, n = together(record, ("force", "displacement", *there))
        force = samples_in(record, "force", "N", settings.sensitivity)[:n]
        way = length_in(record, "displacement", settings)[:n]
        heat = celsius(record, sensitivity=settings.sensitivity)[:n] if there else None
        made = Readings(KEYS, settings)
        own = [m for m in marks if m.get("kind") == "point"]
        ramp = next((m for m in marks if m.get("kind") == "ramp"), None)
        if own and not settings.steps:
            settings = settings.model_copy(update={"steps": [Step.model_validate(
                {k: m[k] for k in ("frequency", "start", "stop")}) for m in own]})  # fmt: skip
        elif ramp is not None:
            end = next((m["t"] for m in marks if m.get("kind") == "dma ended"), n / rate)
            a, n = int(ramp["start"] * rate), min(int(end * rate), n)
            force, way, heat = force[a:n], way[a:n], None if heat is None else heat[a:n]
            n -= a
            settings = settings.model_copy(update={"frequency": settings.frequency or float(ramp["frequency"])})
        pieces = _pieces(way, rate, n, settings)
        if isinstance(pieces, str):
            made.absent(list(KEYS), pieces)
            return Finding(self.name, made.all(), notes=(pieces,))
        held = [dynamic.complex_stiffness(force, way, rate, f, a, b) for f, a, b in pieces]
        turns = [settings.turned(f) for f, _, _ in pieces]
        with np.errstate(divide="ignore", invalid="ignore"):
            seen = np.array([v * turn for (v, _), (turn, _) in zip(held, turns, strict=True)])
            k = dynamic.without_machine(seen, settings.compliance) * by
            ratio = np.array([e for _, e in held]) * np.abs(k / (by * seen))
        angle = np.nan_to_num(np.array([u for _, u in turns]))
        known = [bool(np.isfinite(u)) for _, u in turns]
        nest = None
        if own:
            warm = [None if heat is None else float(heat[a:b].mean()) for _, a, b in pieces]
            swings = np.array([abs(dynamic.fit(way[None, a:b], rate, f)[0][0]) for f, a, b in pieces])
            nest = nested(own, warm, swings)
        x, unit = _axis(pieces, rate, heat, settings) if nest is None else (nest.first.x, nest.unit)
        notes = unstated(settings.uncertainty, "force", "displacement")
        axes = AXES if nest is not None else ("frequency",)
        loose = [words_of(m, axes) for m in own if not m["settled"]]
        if loose:
            notes.append(f"Not settled to {settings.play.spread:g} %: {', '.join(loose)}.")
        if nest is not None and (off := missed(nest.marks, nest.swings)):
            notes.append(f"Not at the amplitude that was asked for: {'; '.join(off)}.")
        if nest is not None and nest.unit == "°C":
            notes.append(f"The transitions are read at {words_of(own[0], AXES[1:])}.")
        elif not settings.steps:
            notes.append(f"Read at {pieces[0][0]:.5g} Hz, {settings.window} periods a point.")
        if not any(known):
            notes.append("The instrument's own phase is not taken off: it is in the loss and in tan delta"
                         + (", and was measured up to"
                            f" {settings.instrument[-1].frequency:g} Hz." if settings.instrument else "."))  # fmt: skip
        elif not all(known):
            notes.append(f"Above {settings.instrument[-1].frequency:g} Hz the instrument's own phase was not measured:"
                         " it is in the loss and in tan delta there.")  # fmt: skip
        if np.any(k.real <= 0):
            notes.append("Where the machine's compliance leaves no stiffness to the specimen there is no modulus.")
            k = np.where(k.real > 0, k, np.nan)
        if unit == "°C" and settings.temperature_uncertainty is None:
            notes.append("No temperature_uncertainty is given: the transitions have no doubt here.")
        apart = 0.0 if nest is None or len(x) < 2 else float(np.max(np.abs(np.diff(x)))) / 2
        first = k if nest is None else k[nest.first.rows]
        _transitions(made, x, unit, first, settings.temperature_uncertainty, apart)
        detail: dict[str, Any] | None = None
        if nest is not None:
            detail = {"nest": nest.table(k / 1e6)}
        elif unit == "Hz" and heat is not None:  # a master curve is made of several by it
            detail = {"temperature": float(np.mean([heat[a:b].mean() for _, a, b in pieces]))}
        if nest is None:
            curves = _curves(x, unit, k, (ratio, angle), settings)
        else:
            curves = tuple(c for one in nest.families for c in _curves(
                one.x, nest.unit, k[one.rows], (ratio[one.rows], angle[one.rows]), settings, one.suffix, one.words))
        return Finding(self.name, made.all(), curves, notes=tuple(notes), detail=detail)

    # --- running ---------------------------------------------------------------------------------------------

    def from_ledger(self, known: Mapping[str, Calibrated]) -> dict[str, Any]:
        made = super().from_ledger({k: v for k, v in known.items() if k == "frame"})
        own = known.get("frame_phase")
        if own is not None and own.points:
            by = factor(own.unit, "deg")
            made["instrument"] = [
                {"frequency": f"{f:g} Hz", "phase": f"{v * by:.5g} deg",
                 "uncertainty": f"{abs(v) * by * u / 100:.2g} deg"} for f, v, u in own.points
            ]  # fmt: skip
        return made

    def course(self, settings: DmaSettings) -> list[CourseItem]:
        play, made = settings.play, [CourseItem("Zero, grip", 6.0)]
        seconds = [max(settings.window / f, 1.0) for f in play.frequencies]
        ramp = play.temperature
        if ramp is not None or play.duration is not None:
            start = ramp.first if ramp is not None else play.at
            if start is not None:
                made.append(CourseItem(f"To {start:g} °C", 300.0))
        if play.duration is not None:
            made.append(CourseItem(f"Over time, {play.frequencies[0]:g} Hz", play.duration + 8 * seconds[0]))
        elif ramp is not None:
            label = f"{ramp.first:g} to {ramp.last:g} °C, {play.frequencies[0]:g} Hz"
            made.append(CourseItem(label, abs(ramp.last - ramp.first) / ramp.rate + 8 * seconds[0]))
        else:
            each = len(play.swings)
            for t in play.soaks:
                if t is not None:
                    made.append(CourseItem(f"To {t:g} °C", 300.0))
                for f, s in zip(play.frequencies, seconds, strict=True):
                    made.append(CourseItem(f"{f:g} Hz", 4 * s * each, f))
        return made

    def perform(self, settings: DmaSettings, facts: Facts, start: Mapping[str, Any] | None = None) -> Performance:
        from .dma_run import perform

        return perform(settings, facts)

    def guarded(self, settings: DmaSettings, inputs: Sequence[Input]) -> dict[str, Any]:
        play = settings.play
        made = super().guarded(settings, inputs)
        if play.temperature is None and play.soaks == [None]:
            return made
        return {"guards": [*made.get("guards", []), {"watch": "chamber_band", "action": "ease"}]}

    def feasible(self, settings: DmaSettings, facts: Facts) -> None:
        from .dma_run import Dynamic

        Dynamic(settings, facts)

    def fill(self, given: dict[str, Any], bench: BenchFacts) -> dict[str, Any]:
        return sensed(super().fill(given, bench), bench)


METHOD = Dma()


def pieces_of(steps: Sequence[Step], rate: float, n: int) -> list[tuple[float, int, int]]:
    """Frequency, first and last sample of each step in a record of n samples. Raises BadInput."""
    made = []
    for i, step in enumerate(steps, start=1):
        a, b = int(round(step.start * rate)), int(round(step.stop * rate))
        if b > n + 1.5:
            raise BadInput(f"steps: the record ends at {n / rate:g} s, before step {i} does ({step.stop:g} s).")
        if step.frequency >= 0.45 * rate:
            raise BadInput(f"steps: a record at {rate:g} Hz can't hold the {step.frequency:g} Hz of step {i}.")
        if (b - a) / rate * step.frequency < 1:
            raise BadInput(f"steps: step {i} is shorter than one period of {step.frequency:g} Hz.")
        made.append((step.frequency, a, min(b, n)))
    return made


def _pieces(way: Floats, rate: float, n: int, settings: DmaSettings) -> list[tuple[float, int, int]] | str:
    """Frequency, first and last sample of each point; a sentence where there is none. Raises BadInput."""
    if settings.steps:
        return pieces_of(settings.steps, rate, n)
    f = settings.frequency or dynamic.frequency_of(way, rate)
    if f is None:
        return "there is no tone in the displacement"
    if f >= 0.45 * rate:
        raise BadInput(f"frequency: a record at {rate:g} Hz can't hold {f:g} Hz.")
    length = settings.window * rate / f
    count = int((n + 0.5) / length)
    if count < 1:
        return f"the record is shorter than {settings.window} periods"
    edges = np.round(np.arange(count + 1) * length).astype(int)
    return [(f, int(a), int(min(b, n))) for a, b in zip(edges[:-1], edges[1:], strict=True) if b - a >= 8] or (
        "there are too few samples a period"
    )


def _axis(
    pieces: list[tuple[float, int, int]], rate: float, heat: Floats | None, settings: DmaSettings
) -> tuple[Floats, str]:
    if settings.steps:
        return np.array([f for f, _, _ in pieces]), "Hz"
    if heat is not None:
        at = np.array([heat[a:b].mean() for _, a, b in pieces])
        if float(at.max() - at.min()) > MOVING or float(heat.max() - heat.min()) > MOVING:
            return at, "°C"
    return np.array([(a + b - 1) / 2 / rate for _, a, b in pieces]), "s"


def _transitions(made: Readings, x: Floats, unit: str, k: np.ndarray, stated: float | None, apart: float) -> None:
    """`apart`: half of the K between two points that were measured one by one."""
    if unit != "°C":
        made.absent(list(KEYS), "temperature does not move by more than 5 K in this record")
        return
    found = dynamic.transitions(x, k.real, k.imag)
    # Half of the width that the curves are smoothed over is what a peak or a tangent can be off by beside it.
    doubt = None if stated is None else float(np.hypot(np.hypot(stated, dynamic.WIDTH / 2 * np.ptp(x) / 2), apart))
    for key, value, what in zip(
        KEYS, (found.onset, found.loss_peak, found.tan_peak), ("no fall", "no peak", "no peak"), strict=True
    ):
        made.put(key, value, doubt, None if value is not None else f"there is {what} inside the range of temperature")


def _curves(
    x: Floats, unit: str, k: np.ndarray, doubts: tuple[Floats, Floats], settings: DmaSettings, suffix: str = "",
    words: str = "",
) -> tuple[Curve, ...]:  # fmt: skip
    """Storage, loss and tan delta of points over x; `doubts`: the standard error as a ratio, and the expanded one of
    the instrument's phase [rad]; `suffix` of their keys and `words` of their labels."""
    share = share_of(settings.uncertainty, "force", "displacement")
    size = np.abs(k) / 1e6
    ratio, angle = doubts
    scatter = 2 * ratio
    turning = np.hypot(scatter, angle)
    at = points(x)
    tan = k.imag / k.real
    return (
        Curve(f"storage{suffix}", f"Storage modulus{words}", at, points(k.real / 1e6), unit, "MPa",
              points(np.hypot(np.hypot(scatter * size, share * k.real / 1e6), angle * k.imag / 1e6)), 2.0),
        Curve(f"loss{suffix}", f"Loss modulus{words}", at, points(k.imag / 1e6), unit, "MPa",
              points(np.hypot(np.hypot(scatter * size, share * k.imag / 1e6), angle * k.real / 1e6)), 2.0),
        Curve(f"tan_delta{suffix}", f"Tan delta{words}", at, points(tan), unit, "",
              points(turning * (1 + tan**2)), 2.0),
    )  # fmt: skip
