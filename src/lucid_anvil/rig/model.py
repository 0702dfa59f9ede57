"""The rig file: every parameter of the bench, stand-ins included, in one text that a person can read and diff."""

from __future__ import annotations

import datetime
import difflib
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import Field, SerializeAsAny, field_validator, model_validator

from ..contracts.registry import channel_kinds, fault_kinds, guard_kind
from ..contracts.settings import Flag, Model, Seconds, check, quantity
from ..core.sensor import SensorModel
from ..core.shaker import Capability, Shaker
from ..lab.plans import WATCHES, GuardPart
from ..lab.textfiles import load_yaml
from .chamber import ChamberPart
from .gauge import GaugePart
from .scenes import scene_from

Hz = Annotated[float, quantity("Hz")]
Volt = Annotated[float, quantity("V")]
Percent = Annotated[float, quantity("%")]
OWN = {"acceleration": "m/s²", "force": "N", "pressure": "Pa", "length": "m", "temperature": "°C"}
BARE = ("current", "voltage", "tach")
"""Kinds of channels without a sensor"""


class _Measured(Mapping[str, str]):
    """Ours, and those that domains bring along."""

    def __getitem__(self, kind: str) -> str:
        return OWN[kind] if kind in OWN else channel_kinds()[kind]

    def __iter__(self) -> Iterator[str]:
        return iter({**OWN, **channel_kinds()})

    def __len__(self) -> int:
        return len({**OWN, **channel_kinds()})


MEASURED: Mapping[str, str] = _Measured()
"""Kinds of channels that have a sensor, and the unit of what it measures."""


def kinds() -> tuple[str, ...]:
    """Every kind of channel."""
    return (*MEASURED, *BARE)


class CardPart(Model):
    """A sound card, with what its own calibration found."""

    device: str | int | None = None
    """Name or number as PortAudio has it; the system's own when not given"""
    output_volts: list[Volt] = Field(default_factory=list)
    """Peak at each output for full scale, in the order of the channels; one value stands for all"""
    input_volts: list[Volt] = Field(default_factory=list)
    """Peak at each channel's input that reads full scale; one value stands for all"""
    delay: int = Field(default=0, ge=0)
    """Samples from output to input"""
    calibrated: datetime.date | None = None
    latency: Seconds = 0.1
    """That it is asked to hold ahead: less makes a cut quicker, more makes lost samples rarer"""

    @field_validator("output_volts", "input_volts", mode="before")
    @classmethod
    def _each(cls, value: Any) -> Any:
        return value if isinstance(value, (list, tuple)) else [] if value is None else [value]

    @property
    def known(self) -> bool:
        """Whether its volts are known."""
        return bool(self.output_volts and self.input_volts)

    @staticmethod
    def at(volts: list[float], place: int) -> float:
        """One channel's volts, counted from 0."""
        return volts[min(place, len(volts) - 1)]


class FrontEnd(Model):
    """The streaming inputs and the source."""

    driver: Literal["standin", "soundcard"] = "standin"
    card: CardPart = Field(default_factory=CardPart)
    model: str = "stand-in front end"
    rate: Hz = 51200.0
    block: int = Field(default=2048, ge=64, le=8192)
    latency: Seconds = 0.001
    bits: int = Field(default=24, ge=8, le=32)
    ranges: list[Volt] = Field(default_factory=lambda: [0.1, 0.3, 1.0, 3.0, 10.0])
    """Input ranges that can be chosen"""
    source_range: Volt = 5.0
    watchdog: Seconds = 0.1
    patience: Seconds = 0.25
    """How long the keeper waits for a drive block in real pace. A device that can't wait needs less than a block;
    the stand-in's clock slips when the machine under it pauses (docs/decisions/003)."""


class AmplifierPart(Model):
    """The power amplifier, with its faults of nature."""

    model: str = "stand-in amplifier"
    gain: float = 12.0
    clip: Volt = 42.0
    second_harmonic: Percent = 0.3
    third_harmonic: Percent = 0.5
    hum: Volt = 0.0


class ShakerPart(Model):
    """The shaker: physics and limits."""

    model: str = "stand-in shaker"
    serial: str = ""
    moving_mass: Annotated[float, quantity("kg")] = 0.22
    payload: Annotated[float, quantity("kg")] = 0.0
    """Article and fixture upon the table."""
    coil_share: float = Field(default=0.35, gt=0, lt=1)
    """Of the moving mass without payload."""
    suspension_frequency: Hz = 18.0
    suspension_damping: Percent = 12.0
    armature_frequency: Hz = 13500.0
    armature_damping: Percent = 3.0
    force_factor: Annotated[float, quantity("N/A")] = 9.0
    resistance: Annotated[float, quantity("ohm")] = 1.6
    inductance: Annotated[float, quantity("V*s/A")] = 6e-5
    stroke: Annotated[float, quantity("m")] = 0.012
    velocity: Annotated[float, quantity("m/s")] = 1.2
    force: Annotated[float, quantity("N")] = 120.0
    current: Annotated[float, quantity("A")] = 14.0
    acceleration: Annotated[float, quantity("m/s^2")] = 600.0
    lowest: Hz = 5.0
    highest: Hz = 12000.0
    transverse: Percent = 2.0
    transverse_resonance: Hz = 6100.0
    transverse_quality: float = Field(default=4.0, gt=0)

    def shaker(self, gain: float) -> Shaker:
        whole = self.moving_mass + self.payload
        return Shaker(
            whole, self.coil_share * self.moving_mass / whole, self.suspension_frequency, self.suspension_damping / 100,
            self.armature_frequency, self.armature_damping / 100, self.force_factor, self.resistance,
            self.inductance, gain,
        )  # fmt: skip

    def capability(self, voltage: float, source: float) -> Capability:
        return Capability(self.stroke, self.velocity, self.force, self.current, voltage, source, self.acceleration)


class SheetPart(Model):
    """What a stand-in sensor's electronic data sheet says (IEEE 1451.4)."""

    maker: int = Field(ge=0, lt=1 << 14)
    model: int = Field(ge=0, lt=1 << 15)
    serial: int = Field(ge=0, lt=1 << 24)
    sensitivity: Annotated[float, quantity("V/(m/s^2)")] | None = None
    calibrated: datetime.date | None = None
    days: int | None = None
    damaged: Flag = False
    """One bit of its memory is wrong."""

    def memory(self) -> bytes:
        """Its memory, with checksums."""
        from ..formats.teds import Basic, DataSheet, encode

        values = {
            "quantity": "accelerometer", "sensitivity": self.sensitivity, "calibrated": self.calibrated,
            "period": self.days, "reference_frequency": 160.0,
        }  # fmt: skip
        held = encode(DataSheet(Basic(self.maker, self.model, "A", 1, self.serial), 25, values))
        return bytes([held[0] ^ 4]) + held[1:] if self.damaged else held


class SensorPart(Model):
    """A stand-in sensor: its true physics, which the program must find out."""

    sensitivity: Any
    output: Literal["voltage", "charge"] = "voltage"
    resonance: Hz = 42000.0
    quality: float = Field(default=25.0, gt=0.5)
    low_corner: Hz = 0.3
    noise: float = 0.002
    """rms over the whole band, in the unit of what it measures."""
    transverse: Percent = 1.5
    bias: Volt = 11.0
    temperature_coefficient: Annotated[float, quantity("%/K")] = 0.02
    datasheet: SheetPart | None = None

    @field_validator("noise", mode="before")
    @classmethod
    def _in_its_unit(cls, value: Any) -> float:
        from ..core.quantities import parse, same_kind, split

        _, unit = split(str(value))
        found = next((u for u in MEASURED.values() if same_kind(unit or u, u)), "m/s²")
        return parse(value, found.replace("²", "^2"), "noise")

    def per_unit(self, kind: str) -> float:
        """V per unit of what a sensor of that channel kind measures."""
        from ..core.quantities import parse

        return parse(self.sensitivity, f"V/({MEASURED[kind]})".replace("²", "^2"), "sensitivity")

    def model(self) -> SensorModel:
        from ..core.quantities import parse

        charge = self.output == "charge"
        unit, by = ("pC/(m/s^2)", 1e-12) if charge else ("mV/(m/s^2)", 1e-3)
        return SensorModel(
            parse(self.sensitivity, unit, "sensitivity") * by, self.resonance, self.quality, self.low_corner
        )


class ChannelPart(Model):
    """One input channel: what is wired to it."""

    role: str
    input: int = Field(ge=1)
    kind: str = "acceleration"
    range: Volt = 10.0
    sensor: str | None = None
    """Serial number of a sensor in the ledger; where the front end is a stand-in, of one that it describes."""
    sensitivity: Any = None
    """Of a sensor that stands in no ledger, with its unit; levels and guards go by it until a ledger knows better"""
    axis: Literal["axial", "transverse"] = "axial"
    on: str = "table"
    """Where the sensor sits: table, or mode1, mode2, ... of the stand-in article."""
    supply: Flag = True
    coupling: Literal["dc", "ac"] = "dc"
    """ac: a capacitor in series keeps out what stands still"""
    polarity: Literal["as it is", "reversed"] = "as it is"
    """reversed: the sensor sits the other way round, or its leads do; what is recorded is turned back"""
    balanced: Flag = False
    """Both leads go into the input, so that it does not hear what both pick up"""
    conditioner_gain: Annotated[float, quantity("mV/pC")] | None = None
    bridge_amplifier: Annotated[float, quantity("V/(mV/V)")] | None = None
    """Of a strain gauge bridge: with its certificate in mV/V it says what a volt is"""
    scale: Annotated[float, quantity("V/A")] = 0.1
    """Of a current monitor."""

    @field_validator("kind")
    @classmethod
    def _known(cls, value: str) -> str:
        if value not in OWN and value not in kinds():
            near = difflib.get_close_matches(value, kinds(), 1, 0.5)
            hint = f"did you mean '{near[0]}'?" if near else f"there are {', '.join(kinds())}."
            raise ValueError(f"there is no kind of channel '{value}'; {hint}")
        return value

    @property
    def sign(self) -> float:
        return -1.0 if self.polarity == "reversed" else 1.0

    @property
    def typed_sensitivity(self) -> float | None:
        """V per unit of what is measured, where it was typed."""
        from ..core.quantities import parse

        if self.sensitivity is None or self.kind not in MEASURED:
            return None
        return parse(self.sensitivity, f"V/({MEASURED[self.kind]})".replace("²", "^2"), f"{self.role}, sensitivity")


FAULTS = (
    "cable", "open", "short", "overload", "no_output", "loose", "hum", "gain_jump", "frozen", "amplifier_trip",
    "supply_sag", "hang", "overheat", "silent", "late", "garbage", "cooling", "field", "emergency_stop", "door",
    "disk_full",
)  # fmt: skip
"""Kinds of faults that any bench of stand-ins may have; domains bring more along"""


class Fault(Model):
    """A fault that a test or a trainer throws at a given time."""

    at: Seconds
    kind: str
    channel: str = "unit"
    lasts: Seconds = 1e9
    size: float = 1.0

    @field_validator("kind")
    @classmethod
    def _known(cls, value: str) -> str:
        known = FAULTS + fault_kinds()
        if value not in known:
            near = difflib.get_close_matches(value, known, 1, 0.5)
            hint = f"did you mean '{near[0]}'?" if near else f"there are {', '.join(known)}."
            raise ValueError(f"there is no fault '{value}'; {hint}")
        return value


class Room(Model):
    temperature: float = 21.4
    humidity: float = 46.0
    supply: Volt = 229.8
    window: tuple[float, float] = (18.0, 26.0)
    """°C within which calibrations may be done."""


class ArticleMode(Model):
    """One mode of the stand-in article."""

    mass: Annotated[float, quantity("kg")]
    frequency: Hz
    quality: float = Field(default=20.0, gt=0.5, le=200)
    drift: Percent = 0.0
    """of its frequency, a minute; it may be negative"""
    softening: Percent = 0.0
    """by which its frequency is lower when its mass moves with 100 m/s² rms"""


class Rattle(Model):
    """A contact that opens when the table moves harder than a threshold and rings when it closes."""

    above: Annotated[float, quantity("m/s^2")]
    size: float = 0.2
    frequency: Hz = 2300.0


class Article(Model):
    """What stands on the stand-in shaker; the modes' masses are part of the payload."""

    modes: list[ArticleMode] = Field(default_factory=list, max_length=4)
    rattle: Rattle | None = None


class StandIn(Model):
    """What only stand-ins have: the truth of each sensor, seeds and faults."""

    seed: int = 1
    sensors: dict[str, SensorPart] = Field(default_factory=dict)
    article: Article = Field(default_factory=Article)
    scene: SerializeAsAny[Model] | None = None
    """What is heard on a bench that only listens, or is driven and answers in its own way"""
    faults: list[Fault] = Field(default_factory=list)
    physics: Flag = True
    """Off: inputs are the source times a factor, to measure how fast everything else is."""
    draw_errors: Flag = False
    """Draw every systematic error from the budget's own distributions."""
    pickup: Volt = 0.0
    """V rms of mains hum that all leads pick up"""
    input_gains: dict[str, Percent] = Field(default_factory=dict)
    """Gain error of an input by role."""

    @field_validator("scene", mode="before")
    @classmethod
    def _played(cls, held: Any) -> Any:
        """Of the kind that it names, among ours and those that domains bring along."""
        return held if held is None or isinstance(held, Model) else scene_from(held)


class LoadRating(Model):
    """What the load bank's resistors bear, as its maker states it."""

    limit: float = 120.0
    """°C"""
    capacity: Annotated[float, quantity("J/K")] = 60.0
    resistance: Annotated[float, quantity("K/W")] = 0.6
    """to the room, fan on"""
    lowest: Annotated[float, quantity("ohm")] = 4.0
    """taken while the bank says nothing"""


class InstrumentPart(Model):
    """An instrument that is really there; stand-ins tell their own place."""

    host: str = "127.0.0.1"
    port: int = Field(ge=1, le=65535)


class FramePart(Model):
    """A load frame: its valve takes a command of speed, so that nothing commanded is a crosshead at rest."""

    model: str = "stand-in frame"
    serial: str | None = None
    """As it stands in the ledger, with what it gives way by"""
    speed: Annotated[float, quantity("m/s/V")] = 1e-3
    """Of the crosshead, per volt at the source; positive pulls"""
    force: Annotated[float, quantity("N")] = 50e3
    """That frame and load cell bear"""
    travel: Annotated[float, quantity("m")] = 0.2
    """From one end stop to the other"""

    @property
    def limits(self) -> dict[str, float]:
        """As methods and guards know them."""
        return {"frame_speed": self.speed, "frame_force": self.force, "frame_travel": self.travel}


class SourceOfDoubt(Model):
    """A source of doubt that the lab states: one half-width, or rows of [Hz, half-width]."""

    source: str
    label: str | None = None
    half_width: Any
    distribution: str = "rectangular"
    correlation: float = 1.0


class Rig(Model):
    """A whole rig."""

    version: Literal[1] = Field(default=1, alias="lucid-anvil-rig")
    name: str
    front_end: FrontEnd = Field(default_factory=lambda: FrontEnd())
    amplifier: AmplifierPart = Field(default_factory=AmplifierPart)
    shaker: ShakerPart = Field(default_factory=lambda: ShakerPart())
    channels: list[ChannelPart]
    room: Room = Field(default_factory=Room)
    budget: list[SourceOfDoubt] = Field(default_factory=list)
    capability: Any = None
    guards: list[GuardPart] = Field(default_factory=list)
    load: LoadRating | None = None
    frame: FramePart | None = None
    chamber: ChamberPart | None = None
    gauge: GaugePart | None = None
    """A reference that is read over its own line"""
    instruments: dict[Literal["supply", "load", "meter"], InstrumentPart] = Field(default_factory=dict)
    cut_time: Seconds = 0.005
    ease_time: Seconds = 0.5
    standin: StandIn = Field(default_factory=StandIn)

    @model_validator(mode="after")
    def _whole(self) -> Rig:
        roles = [c.role for c in self.channels]
        for c in self.channels:
            if c.sensitivity is not None and c.kind not in MEASURED:
                raise ValueError(f"channel '{c.role}' measures {c.kind}, which has no sensitivity: leave it out.")
            value = c.typed_sensitivity
            if value is not None and value <= 0:
                raise ValueError(f"channel '{c.role}': its sensitivity must be above zero.")
        if len(set(roles)) != len(roles):
            raise ValueError("two channels have the same role: give each its own.")
        if len({c.input for c in self.channels}) != len(roles):
            raise ValueError("two channels share one input: give each its own.")
        if self.is_standin:
            self._stands_in()
        elif self.gauge is not None and self.gauge.port is None:
            raise ValueError("gauge: say at which address and port it listens.")
        check_guards(self.guards, self)
        modes = sum(m.mass for m in self.standin.article.modes)
        if modes >= self.shaker.payload > 0 or (modes and not self.shaker.payload):
            raise ValueError("the modes' masses are part of the shaker's payload: raise the payload.")
        return self

    def _stands_in(self) -> None:
        """Where nothing is real, what is measured must be described: each sensor, and what it sits on."""
        places = ["table", *(f"mode{i + 1}" for i in range(len(self.standin.article.modes)))]
        for c in self.channels:
            if c.kind in MEASURED and c.sensor is None:
                raise ValueError(f"the channel '{c.role}' needs the serial number of its sensor.")
            if c.sensor is not None and c.sensor not in self.standin.sensors:
                raise ValueError(f"the stand-in sensor '{c.sensor}' of channel '{c.role}' is not described.")
            if c.on not in places:
                raise ValueError(f"channel '{c.role}' sits on '{c.on}': there are {', '.join(places)}.")

    def channel(self, role: str) -> ChannelPart:
        return next(c for c in self.channels if c.role == role)

    def identities(self) -> dict[str, str]:
        """Memories (hex) of the sensors that carry a data sheet, by role."""
        made = {}
        for c in self.channels:
            sensor = self.standin.sensors.get(c.sensor or "")
            if sensor is not None and sensor.datasheet is not None:
                made[c.role] = sensor.datasheet.memory().hex()
        return made

    def plant(self) -> Shaker:
        return self.shaker.shaker(self.amplifier.gain)

    def capability_lines(self) -> Capability:
        return self.shaker.capability(self.amplifier.clip, self.front_end.source_range)

    def band(self) -> tuple[float, float]:
        """Hz between which the shaker may be driven."""
        return self.shaker.lowest, min(self.shaker.highest, 0.45 * self.front_end.rate)

    @property
    def gauged(self) -> bool:
        """Whether its reference is read over its own line, and by no input."""
        return self.gauge is not None and all(c.role != "reference" for c in self.channels)

    @property
    def framed(self) -> bool:
        """Whether it is a load frame's, described or not: its lengths say so."""
        return self.frame is not None or any(c.kind == "length" for c in self.channels)

    @property
    def undescribed(self) -> str:
        """What is not known of a real bench that drives a table, in a sentence: no limit may then be said to hold."""
        drives = any(c.kind == "acceleration" and c.axis == "axial" for c in self.channels)
        if self.is_standin or not drives or "shaker" in self.model_fields_set:
            return ""
        return "The rig does not describe its shaker: whether stroke, force and current suffice can't be told."

    @property
    def is_standin(self) -> bool:
        return self.front_end.driver == "standin"


NEEDS = {
    "stroke": "acceleration", "acceleration": "acceleration", "abort": "acceleration", "control_lost": "acceleration",
    "current": "current", "force": "force", "length": "length",
    "temperature": "temperature",
}  # fmt: skip
"""Kind of channel that a guard watches"""


def check_guards(guards: list[GuardPart], rig: Rig) -> None:
    """Raises ValueError with the cure for a guard that makes no sense on this rig."""
    by_role = {c.role: c.kind for c in rig.channels}
    for g in guards:
        if g.watch == "late":
            raise ValueError("the guard 'late' is always on and is none to be set: leave it out.")
        if g.channel is not None and g.channel not in by_role:
            raise ValueError(f"there is no channel '{g.channel}' to guard: {', '.join(by_role)}.")
        there = [by_role[g.channel]] if g.channel is not None else list(by_role.values())
        needs = (NEEDS[g.watch],) if g.watch in NEEDS else guard_kind(g.watch).needs if g.watch not in WATCHES else ()
        for kind in (k for k in needs if k not in there):
            where = f"'{g.channel}' measures {by_role[g.channel]}" if g.channel else f"no channel measures {kind}"
            raise ValueError(f"the guard '{g.watch}' has nothing to watch: {where}: leave it out, or add the channel.")
        if g.watch == "interlock" and not rig.is_standin:
            raise ValueError("this front end reads no interlocks, and the guard 'interlock' would see none: leave it"
                             " out; they act by themselves.")
        if g.watch == "load_heat" and rig.load is None:
            raise ValueError("the guard 'load_heat' needs to know the load bank: add 'load:', or leave it out.")


def load_rig(path: Path) -> Rig:
    """Read and check a rig file. Raises BadInput."""
    return check(Rig, load_yaml(path), str(path))
