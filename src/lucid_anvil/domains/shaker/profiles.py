"""Profile files: sine, random and time profiles as a person writes them, checked and solved."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, TypeAdapter, model_validator

from ...contracts.settings import Flag, Model, Seconds, check, quantity
from ...core.control import randomprofile, sineprofile
from ...core.control.corridor import Band, Side
from ...core.control.sweep import Sweeping, sweeping
from ...core.errors import BadInput
from ...core.quantities import parse, same_kind, split
from ...lab.textfiles import load_yaml

Hz = Annotated[float, quantity("Hz")]
Metres2 = Annotated[float, quantity("m/s^2")]
DENSITY = "(m/s^2)^2/Hz"
ABSOLUTE = {"displacement": "m", "velocity": "m/s", "acceleration": "m/s^2", "line": "m/s^2", "density": DENSITY}
Edge = str | float | None


class BandPart(Model):
    """Edges of a band: `-3 dB`, `-10 %`, or a value in the unit of what is held."""

    low: Edge = None
    high: Edge = None

    def band(self, law: str, where: str) -> Band:
        return Band(_side(self.low, law, f"{where}.low"), _side(self.high, law, f"{where}.high"))


def _side(given: Edge, law: str, where: str) -> Side | None:
    if given is None:
        return None
    if isinstance(given, (int, float)):
        return Side(float(given), "db")
    value, unit = split(given)
    if unit.replace(" ", "") == "dB":
        return Side(value, "db")
    if unit == "%":
        return Side(value, "percent")
    return Side(parse(given, ABSOLUTE[law], where), "absolute")


class SegmentPart(Model):
    """One segment: `displacement` (peak to peak), `velocity`, `acceleration` (peak) or `line: true`."""

    displacement: Annotated[float, quantity("m")] | None = None
    velocity: Annotated[float, quantity("m/s")] | None = None
    acceleration: Metres2 | None = None
    line: Flag = False
    until: Hz | None = None
    tolerance: BandPart | None = None
    abort: BandPart | None = None

    def law(self) -> str:
        given = [k for k in ("displacement", "velocity", "acceleration") if getattr(self, k) is not None]
        given += ["line"] if self.line else []
        return given[0] if len(given) == 1 else ""

    @model_validator(mode="after")
    def _one(self) -> SegmentPart:
        if not self.law():
            raise ValueError("a segment holds one thing: displacement, velocity, acceleration, or line: true.")
        return self


class SweepPart(Model):
    """How the frequency moves. `rate` in oct/min (or Hz/s for linear), or `duration` of one sweep."""

    law: Literal["log", "linear"] = "log"
    rate: str | float | None = None
    duration: Seconds | None = None
    direction: Literal["up", "down", "both"] = "up"

    def rate_si(self) -> float | None:
        """octaves/s or Hz/s; a bare number is oct/min or Hz/s."""
        if self.rate is None:
            return None
        if self.law == "log":
            if isinstance(self.rate, str) and (end := split(self.rate)[1].replace(" ", "")).startswith("dec"):
                return 3.321928094887362 * parse(
                    f"{split(self.rate)[0]} oct{end[end.index('/') :]}", "oct/s", "sweep.rate"
                )
            return parse(self.rate, "oct/min", "sweep.rate") / 60
        return parse(self.rate, "Hz/s", "sweep.rate")


class SineFile(Model):
    """A sine profile."""

    version: Literal[1] = Field(default=1, alias="lucid-anvil-profile")
    kind: Literal["sine"] = "sine"
    title: str = ""
    start: Hz
    stop: Hz
    segments: list[SegmentPart]
    tolerance: BandPart | None = None
    abort: BandPart | None = None
    sweep: SweepPart | None = None
    sweeps: float | None = None
    total: Seconds | None = None
    cycles: float | None = None
    fit: Literal["cut", "whole"] = "cut"
    """What becomes of a total: cut the last sweep, or take whole sweeps."""
    moving_mass: Annotated[float, quantity("kg")] | None = None

    def solved(self) -> sineprofile.SineProfile:
        """Raises BadInput."""
        segments = []
        for i, part in enumerate(self.segments, 1):
            law = part.law()
            bands = []
            for name in ("tolerance", "abort"):
                held: BandPart | None = getattr(part, name) or getattr(self, name)
                bands.append(held.band(law, f"segments, {i}, {name}") if held else None)
            segments.append(
                sineprofile.Segment(law, getattr(part, law, None) if law != "line" else None, part.until, *bands)
            )
        return sineprofile.solve(self.start, self.stop, segments)

    def sweeping(self) -> Sweeping | None:
        """None when nothing is said about time. Raises BadInput."""
        if self.sweep is None:
            if (self.sweeps, self.total, self.cycles) == (None, None, None):
                return None
            if self.sweeps is None or self.total is None:
                raise BadInput("sweep: give its law and rate or duration, so that the course is known.")
        part = self.sweep or SweepPart()
        return sweeping(
            self.start, self.stop, law=part.law, rate=part.rate_si(), duration=part.duration, sweeps=self.sweeps,
            total=self.total, cycles=self.cycles, direction=part.direction, whole=self.fit == "whole",
        )  # fmt: skip


class PointPart(Model):
    """One breakpoint: its density, or the slope from the point before."""

    frequency: Hz
    density: Annotated[float, quantity(DENSITY)] | None = None
    slope: str | float | None = None
    """dB/oct"""
    tolerance: BandPart | None = None
    abort: BandPart | None = None

    def slope_si(self, where: str) -> float | None:
        if self.slope is None:
            return None
        if isinstance(self.slope, (int, float)):
            return float(self.slope)
        value, unit = split(self.slope)
        if unit.replace(" ", "").lower() not in ("db/oct", "db/octave", ""):
            raise BadInput(f"{where}: '{self.slope}': a slope is in dB/oct.")
        return value


class RandomFile(Model):
    """A random profile."""

    version: Literal[1] = Field(default=1, alias="lucid-anvil-profile")
    kind: Literal["random"]
    title: str = ""
    points: list[PointPart]
    rms: Metres2 | None = None
    tolerance: BandPart | None = None
    abort: BandPart | None = None
    duration: Seconds | None = None
    moving_mass: Annotated[float, quantity("kg")] | None = None

    def solved(self) -> randomprofile.RandomProfile:
        """Raises BadInput."""
        points = []
        for i, p in enumerate(self.points, 1):
            bands = []
            for name in ("tolerance", "abort"):
                held: BandPart | None = getattr(p, name) or getattr(self, name)
                bands.append(held.band("density", f"points, {i}, {name}") if held else None)
            points.append(randomprofile.Point(p.frequency, p.density, p.slope_si(f"points, {i}, slope"), *bands))
        return randomprofile.solve(points, self.rms)


class CutPart(Model):
    start: Seconds = 0.0
    stop: Seconds | None = None


class RecordPart(Model):
    """A record and what is done to it, in this order: cut, unit, scale, resample, high- and low-pass, taper,
    compensation."""

    file: str
    channel: str | int | None = None
    unit: str | None = None
    """Of the record's numbers, where the file does not say it."""
    cut: CutPart | None = None
    scale: float = 1.0
    resample: Hz | None = None
    high_pass: Hz | None = None
    low_pass: Hz | None = None
    taper: Seconds = 0.0
    compensate: Flag = True
    stroke: Annotated[float, quantity("m")] | None = None
    """peak to peak; the high-pass is raised until the motion fits"""
    times: int = Field(default=1, ge=1, le=10000)
    """How often it is played, one after the other"""
    after: Seconds = Field(default=1.0, ge=0)
    """s at rest before it, where another one comes before, and between its times"""


class TimeFile(RecordPart):
    """A time profile: a record, or several in a row."""

    version: Literal[1] = Field(default=1, alias="lucid-anvil-profile")
    kind: Literal["time"]
    title: str = ""
    then: list[RecordPart] = Field(default_factory=list)
    """What is played after it"""
    moving_mass: Annotated[float, quantity("kg")] | None = None

    @property
    def records(self) -> tuple[RecordPart, ...]:
        """All of them, in order."""
        return (self, *self.then)


AnyFile = SineFile | RandomFile | TimeFile
KINDS: dict[str, type[Model]] = {"sine": SineFile, "random": RandomFile, "time": TimeFile}


def profile_of(data: Any, source: str) -> AnyFile:
    """A profile from plain data. Raises BadInput."""
    if not isinstance(data, dict):
        raise BadInput(f"{source}: a profile is wanted here: keys and values, 'kind: sine' among them.")
    kind = data.get("kind", "sine" if "segments" in data else "random" if "points" in data else None)
    if kind not in KINDS:
        raise BadInput(f"{source}: kind: {'it is missing' if kind is None else repr(kind)}: use sine, random or time.")
    return check(KINDS[kind], data, source)  # type: ignore[return-value]


def load_profile(path: Path) -> AnyFile:
    """Read and check a profile file. Raises BadInput."""
    return profile_of(load_yaml(path), str(path))


def json_schema() -> dict[str, Any]:
    return TypeAdapter(AnyFile).json_schema(by_alias=True)


def prepare_history(part: TimeFile, folder: Path) -> tuple[Any, Any]:
    """The records of a time profile as they will be driven, in a row at the highest of their rates, each at rest at
    its ends where it is compensated: (Compensated, the first one's channel). Raises BadInput."""
    from ...core.control import history

    made = [_prepared(p, folder) for p in part.records]
    if len(made) == 1 and part.times == 1:
        return made[0]
    rate = max(m.after.rate for m, _ in made)
    before: list[Any] = []
    after: list[Any] = []
    notes: list[str] = []
    for number, (one, (m, _)) in enumerate(zip(part.records, made, strict=True), 1):
        for motion, held in ((m.before, before), (m.after, after)):
            x = history.resample(motion.acceleration, motion.rate, rate)
            for _ in range(one.times):
                held += [*([np.zeros(round(one.after * rate))] if held else []), x]
        notes += [f"Record {number}: {n}" for n in m.notes]
    whole = [history.Motion(np.concatenate(held), rate) for held in (before, after)]
    return history.Compensated(whole[0], whole[1], min(m.high_pass for m, _ in made), tuple(notes)), made[0][1]


def _prepared(part: RecordPart, folder: Path) -> tuple[Any, Any]:
    """One record as it will be driven."""
    from ...core.control import history
    from ...formats import read

    place = Path(part.file)
    record = read(place if place.is_absolute() else folder / place)
    if part.channel is None and len(record.channels) > 1:
        raise BadInput(
            f"{part.file}: it has {len(record.channels)} channels: say channel, one of {', '.join(record.labels)}."
        )
    channel = record.channel(part.channel if part.channel is not None else 1)
    unit = part.unit or channel.unit
    if not same_kind(unit, "m/s^2"):
        raise BadInput(f"{part.file}: '{unit}' is no acceleration: say its unit, like 'unit: m/s^2'.")
    x = channel.samples() * parse(f"1 {unit}", "m/s^2")
    rate = channel.rate
    if part.cut:
        stop = channel.duration if part.cut.stop is None else part.cut.stop
        if not 0 <= part.cut.start < stop <= channel.duration * (1 + 1e-9):
            raise BadInput(
                f"cut: {part.cut.start:g} s to {stop:g} s is not within the record's {channel.duration:g} s."
            )
        x = x[int(round(part.cut.start * rate)) : int(round(stop * rate))]
    x = x * part.scale
    if part.resample:
        x, rate = history.resample(x, rate, part.resample), part.resample
    if part.low_pass and part.low_pass >= rate / 2:
        raise BadInput(f"low_pass: {part.low_pass:g} Hz is not below half the rate, {rate / 2:g} Hz.")
    if part.low_pass:
        x = history.zero_phase(x, rate, None, part.low_pass)
    if part.taper:
        x = history.taper(x, rate, part.taper)
    if not part.compensate:
        if part.high_pass:
            x = history.zero_phase(x, rate, part.high_pass, None)
        made = history.Motion(x, rate)
        return history.Compensated(made, made, part.high_pass or 0.0, ("Not compensated, as chosen.",)), channel
    return history.compensate(x, rate, part.high_pass, part.stroke), channel
