"""Settings of an amplifier's sheet: its steps, what they share, and the single readings that they come to."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated, Any, Literal

from pydantic import Field, field_validator, model_validator

from ...contracts.curvelimits import CurveLimits
from ...contracts.method import MethodSettings
from ...contracts.settings import Flag, Model, Seconds, quantity
from ...core.errors import BadInput
from ...core.quantities import parse

Volt = Annotated[float, quantity("V")]
PRECONDITION = "output-precondition"
"""A step that reads nothing: all channels are driven, at the first load, for as long as it says, to be warm and settled
when reading begins (IEC 60268-3, 4.3)"""
OFF = ("off", "open", None)


class Drive(Model):
    """How hard a step drives: one of these."""

    voltage: Volt | None = None
    """V rms at the input"""
    output: Volt | None = None
    """V rms at the output, searched for"""
    power: Any = None
    """W into the load, or a share of the published power, like "0.5 rated"; searched for"""
    distortion: Annotated[float, quantity("%")] | None = None
    """%, harmonics and noise: the highest drive that stays below it, searched for"""
    like: str | None = None
    """The drive that the step of this name found for the same channel and load"""
    times: float = Field(default=1.0, gt=0)
    """Factor on the power of `like`"""

    @model_validator(mode="after")
    def _one(self) -> Drive:
        given = [n for n in ("voltage", "output", "power", "distortion", "like") if getattr(self, n) is not None]
        if len(given) != 1:
            raise ValueError("give one of voltage, output, power, distortion or like.")
        return self

    def watts(self, rated: float | None) -> float:
        """The power asked for [W]. Raises BadInput where a share is asked for and no power is published."""
        text = str(self.power).strip()
        if text.endswith("rated"):
            if rated is None:
                raise BadInput("drive: no published power is given for this load: add it to 'rated'.")
            share = text.removesuffix("rated").strip()
            return rated * (float(share) if share else 1.0)
        return parse(self.power, "W", "drive.power")


class Series(Model):
    """A row of readings from a small power up to clipping."""

    lowest: Annotated[float, quantity("W")] = 0.05
    per_decade: int = Field(default=5, ge=1, le=20)
    stop: Annotated[float, quantity("%")] = 5.0
    """distortion at which it ends"""


class Ask(Model):
    """Something that a person does by hand before a step: a lead, a knob, a load."""

    text: str
    ohm: Annotated[float, quantity("ohm")] | None = None
    """What the load must show after it, where the load bank can tell"""
    knob: float | None = Field(default=None, ge=0, le=1)
    """Share of its full gain to which the stand-in's knob is turned, in place of a person"""


class SheetStep(Model):
    """One step of the sheet."""

    method: str
    name: str
    label: str | None = None
    settings: dict[str, Any] = Field(default_factory=dict)
    channels: list[str] | None = None
    loads: list[Any] | None = None
    """ohm, or off; the sheet's loads when not given"""
    driven: Literal["each", "both"] = "each"
    drive: Drive | None = None
    tones: list[Annotated[float, quantity("Hz")]] = Field(default_factory=lambda: [1000.0], min_length=1)
    series: Series | None = None
    settle: Seconds = 0.25
    read: Seconds = 0.5
    limits: dict[str, dict[str, Any]] = Field(default_factory=dict)
    ask: Ask | None = None
    span: list[Annotated[float, quantity("Hz")]] | None = None
    """From where to where a response is swept; 1 Hz to 40 kHz when not given, no further than the rate allows"""
    reference: str | None = None
    """Of noise: the step whose output on the same channel signal to noise refers to, in place of the published power"""
    mask: CurveLimits | None = None
    """Of its response, or of its distortion against power"""

    @field_validator("name")
    @classmethod
    def _plain(cls, value: str) -> str:
        if not value.replace("-", "").replace(" ", "").isalnum():
            raise ValueError(f"'{value}': letters, digits, blanks and hyphens only.")
        return value.replace(" ", "-")

    @field_validator("span")
    @classmethod
    def _ends(cls, value: list[float] | None) -> list[float] | None:
        if value is not None and (len(value) != 2 or not 0 < value[0] < value[1]):
            raise ValueError("give two frequencies, the lower first, like [1 Hz, 90 kHz].")
        return value

    @field_validator("loads")
    @classmethod
    def _ohms(cls, value: list[Any] | None) -> list[float | None] | None:
        return None if value is None else [None if v in OFF else parse(v, "ohm", "loads") for v in value]


class SupplyWindow(Model):
    """Within which a reading counts."""

    nominal: Volt = 230.0
    within: Annotated[float, quantity("%")] = 1.0
    trim: Flag = False
    """Bring a supply that can be set back to its nominal voltage while it is loaded"""
    regulated: Flag = False
    """The amplifier's rails do not follow the supply"""

    @property
    def edges(self) -> tuple[float, float]:
        return self.nominal * (1 - self.within / 100), self.nominal * (1 + self.within / 100)


class SheetSettings(MethodSettings):
    """The whole sheet."""

    steps: list[SheetStep] = Field(min_length=1)
    channels: list[str] = Field(default_factory=list)
    loads: list[Annotated[float, quantity("ohm")]] = Field(default_factory=lambda: [8.0], min_length=1)
    rated: dict[str, Annotated[float, quantity("W")]] = Field(default_factory=dict)
    """Published power by load, like {8: 40 W}"""
    gain: float = Field(default=20.0, gt=0)
    """V per V, about; where searches begin"""
    ceiling: Volt = 2.0
    """V rms at the input that no step goes beyond"""
    supply: SupplyWindow = Field(default_factory=SupplyWindow)
    path: Volt | None = None
    """V rms at the input of a tone that goes through every channel before the first step: one that does not come back,
    comes back elsewhere or far from the gain is asked about; none when not given"""
    load_limit: float = 110.0
    """°C at which a load is left to cool before the next reading"""
    gain_uncertainty: Annotated[float, quantity("%")] | None = None
    load_uncertainty: Annotated[float, quantity("%")] = 0.1
    only: list[str] = Field(default_factory=list)
    """Readings to take, by key; all of them when empty"""

    @field_validator("rated", mode="before")
    @classmethod
    def _keys(cls, value: Any) -> Any:
        return {f"{parse(k, 'ohm', 'rated'):g}": v for k, v in value.items()} if isinstance(value, dict) else value

    @model_validator(mode="after")
    def _known(self) -> SheetSettings:
        if self.limits:
            raise ValueError("limits: those of a sheet stand at its steps: give each step its own.")
        names = [s.name for s in self.steps]
        for i, step in enumerate(self.steps):
            if step.name in names[:i]:
                raise ValueError(f"two steps have the name '{step.name}': give each its own.")
            like = step.drive.like if step.drive else None
            for other in (like, step.reference):
                if other is not None and other not in names[:i]:
                    raise ValueError(f"the step '{step.name}' refers to '{other}', which is no step before it.")
        if self.path is not None and not 0 < self.path <= self.ceiling:
            raise ValueError("path: the tone before the first step must lie above zero and not above the ceiling.")
        return self

    def rated_at(self, load: float | None) -> float | None:
        return None if load is None else self.rated.get(f"{load:g}")


@dataclass(frozen=True)
class Task:
    """One reading of one step: on one channel, at one load, with one tone."""

    key: str
    step: SheetStep
    channel: str
    load: float | None
    tone: float
    driven: tuple[str, ...]

    @property
    def column(self) -> str:
        return self.channel if self.load is None else f"{self.channel} · {self.load:g} Ω"


def ohms(load: float | None) -> str:
    """A load as keys have it."""
    return "off" if load is None else f"{load:g}"


def tasks(settings: SheetSettings) -> list[Task]:
    """All single readings in the order in which they are taken: by step, then load, so that loads change seldom."""
    made = []
    for step in settings.steps:
        loads: Sequence[float | None] = settings.loads if step.loads is None else step.loads
        if step.method == PRECONDITION:
            every = tuple(settings.channels)
            made.append(Task(step.name, step, every[0], loads[0], step.tones[0], every))
            continue
        for load in loads:
            for channel in step.channels or settings.channels:
                if channel not in settings.channels:
                    raise BadInput(f"step '{step.name}': there is no channel '{channel}': {settings.channels}.")
                # Spot tones of a response are one reading; other steps take one reading a tone.
                spots = step.method == "output-response"
                for tone in step.tones[:1] if spots else step.tones:
                    key = f"{step.name}_{channel}_{ohms(load)}"
                    if len(step.tones) > 1 and not spots:
                        key += f"_{tone:g}Hz"
                    driven = tuple(settings.channels) if step.driven == "both" else (channel,)
                    made.append(Task(key, step, channel, load, tone, driven))
    if settings.only:
        known = {t.key for t in made}
        for key in settings.only:
            if key not in known:
                raise BadInput(f"only: there is no reading '{key}'; the first is '{made[0].key}'.")
        wanted = set(settings.only)
        # What others stand on is found anew, since a drive is only known within one run.
        for task in reversed(made):
            like = task.step.drive.like if task.step.drive else None
            if task.key in wanted and like is not None:
                wanted |= {t.key for t in made if t.step.name == like
                           and (t.channel, t.load) == (task.channel, task.load)}  # fmt: skip
        made = [t for t in made if t.key in wanted]
    return made


PROBES = {"output": 5, "power": 5, "distortion": 14}
"""Looks that a search takes, about."""
PROBE = 0.15
"""s of one look"""
AROUND = 0.2
"""s that a reading takes beyond settling and reading: fading in and out, and waiting for the last block"""


def duration(task: Task) -> float:
    """s that a reading takes, about."""
    step = task.step
    once = step.settle + step.read * (len(step.tones) if step.method == "output-response" else 1) + AROUND
    if step.series is not None:
        return AROUND + math.log10(600 / step.series.lowest) * step.series.per_decade * (PROBE + 0.2)
    if step.method == "output-impedance":
        return 5 * once
    if step.method == "output-common-mode":
        return 2 * once
    looks = sum(n for name, n in PROBES.items() if step.drive and getattr(step.drive, name) is not None)
    return once + looks * PROBE
