"""Settings that the three shaker methods share: profile, course, control; and what they make of them."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import Field, field_validator, model_validator

from ...contracts.method import MethodSettings
from ...contracts.recording import Channel
from ...contracts.settings import Flag, Model, Seconds, quantity
from ...core.control.sineloop import Regulation
from ...core.errors import BadInput
from ...core.quantities import parse, split
from .profiles import AnyFile, BandPart, RandomFile, SineFile, SweepPart, TimeFile, profile_of

Hz = Annotated[float, quantity("Hz")]
Metres2 = Annotated[float, quantity("m/s^2")]
Percent = Annotated[float, quantity("%")]


def decibel(given: Any) -> float:
    """`-3 dB` or a bare number, in dB. Raises BadInput."""
    if isinstance(given, (int, float)) and not isinstance(given, bool):
        return float(given)
    value, unit = split(str(given))
    if unit.replace(" ", "") not in ("dB", ""):
        raise BadInput(f"'{given}': a level is in dB, like '-6 dB'.")
    return value


class Decibel(float):
    """A level in dB."""

    @classmethod
    def __get_pydantic_core_schema__(cls, _source: Any, _handler: Any) -> Any:
        from pydantic_core import core_schema

        return core_schema.no_info_before_validator_function(decibel, core_schema.float_schema())


class CourseStep(Model):
    """One stretch of a course. Just one of `sweep`, `dwell`, `follow`, `random`, `history`, `pause` says what it is."""

    sweep: Literal["up", "down", "both"] | None = None
    law: Literal["log", "linear"] | None = None
    rate: str | float | None = None
    duration: Seconds | None = None
    """Of one sweep; of a random stretch, a pause or a dwell."""
    sweeps: float | None = None
    total: Seconds | None = None
    fit: Literal["cut", "whole"] = "cut"
    start: Hz | None = None
    stop: Hz | None = None
    dwell: Hz | None = None
    cycles: float | None = None
    follow: Literal["resonance"] | Hz | None = None
    """A resonance near this frequency, or the largest that a sweep before it found."""
    channel: str | None = None
    """Whose response the resonance is followed in."""
    random: Flag = False
    history: Flag = False
    repeats: int = Field(default=1, ge=1)
    pause: Seconds | None = None
    ask: str | None = None
    """What a person is asked to do, such as 'turn the article'; the drive rests until it is done"""
    level: Decibel = Decibel(0.0)
    ladder: list[Decibel] | None = None
    each: Seconds | None = None
    """s on each rung of the ladder but the last"""

    def kind(self) -> str:
        given = [k for k in ("sweep", "dwell", "follow", "pause", "ask") if getattr(self, k) is not None]
        given += [k for k in ("random", "history") if getattr(self, k)]
        return given[0] if len(given) == 1 else ""

    @model_validator(mode="after")
    def _one(self) -> CourseStep:
        if not self.kind():
            raise ValueError("a step of the course is one of sweep, dwell, follow, random, history, pause or ask.")
        if self.ask is not None and not self.ask.strip():
            raise ValueError("ask: say what is to be done.")
        return self


class ProbePart(Model):
    """The probe run before full level."""

    on: Flag = True
    level: Metres2 | None = None
    """rms acceleration of the burst; a tenth of the profile's highest level by default"""
    period: Seconds = 4.0
    """of the noise; its lines lie 1/period apart"""
    periods: int = Field(default=2, ge=2, le=20)


class ControlPart(Model):
    """How the shaker is controlled."""

    tracking: str | float | None = None
    """Width of the tracking filter: '5 Hz' or a share of the frequency, '15 %'."""
    detect: Literal["tracking", "rms", "peak"] = "tracking"
    combine: Literal["average", "maximum", "minimum"] = "average"
    points: list[str] | None = None
    """Roles of the control points; all that begin with 'control' by default."""
    limits: dict[str, Metres2] = Field(default_factory=dict)
    """peak level that a response may not exceed, by role"""
    compression: float = Field(default=200.0, gt=0)
    """dB/s"""
    start_tolerance: float = Field(default=0.5, gt=0)
    """dB within which the level must be before the course begins"""
    probe: ProbePart = Field(default_factory=ProbePart)
    line_spacing: Hz | None = None
    degrees_of_freedom: float = Field(default=120.0, ge=4)
    averaging: Literal["exponential", "linear"] = "exponential"
    clipping: float = Field(default=3.5, ge=2, le=6)
    """rms values at which the random drive is clipped"""
    time_abort: Seconds | None = None
    """s that a sine may be beyond its tolerance without a break"""
    distortion_abort: Percent = 40.0
    """% by which all that a control point shows may exceed its sine (IEC 60068-2-6, signal tolerance)"""
    following_abort: Percent = 80.0
    """% of rms error at which a time history counts as not followed"""
    lines_abort: float = Field(default=5.0, gt=0)
    """% of the lines that may lie beyond the abort lines"""
    passes: int = Field(default=6, ge=1, le=50)
    """of a time history, ladder included"""
    band: tuple[Hz, Hz] | None = None
    """Control band of a time history."""
    seed: int = 1

    def regulation(self, shortest: float) -> Regulation:
        """For a sine loop whose window is no shorter than `shortest` [s]."""
        periods, width = 8.0, None
        if self.tracking is not None:
            value, unit = split(str(self.tracking))
            if unit == "%":
                periods = 144.0 / max(value, 0.1)
            else:
                width = parse(self.tracking, "Hz", "control.tracking")
        return Regulation(periods, width, shortest, self.combine, self.detect, self.compression)


class ShakerSettings(MethodSettings):
    """Settings of a shaker method."""

    profile: Any = None
    course: list[CourseStep] = Field(default_factory=list)
    control: ControlPart = Field(default_factory=ControlPart)
    control_sensitivity: str | float | None = None
    sensitivity: dict[str, str | float] = Field(default_factory=dict)
    """By role, for channels in volts."""
    uncertainty: dict[str, Percent] = Field(default_factory=dict)
    """Expanded, k = 2, of a channel's calibration, by role."""
    start: Seconds | None = None
    stop: Seconds | None = None
    """Stretch of a foreign record that is to be read."""

    @field_validator("course", mode="before")
    @classmethod
    def _as_list(cls, value: Any) -> Any:
        return [value] if isinstance(value, dict) else value

    @model_validator(mode="after")
    def _profile(self) -> ShakerSettings:
        if isinstance(self.profile, str):
            raise ValueError("profile: a file's name can only be followed from a plan or settings file.")
        if self.profile is not None:
            held = profile_of(self.profile, "profile")
            if not isinstance(held, TimeFile):
                held.solved()  # one that can't be is refused before anything is awake
        return self

    def profile_file(self) -> AnyFile:
        """The profile, checked. Raises BadInput where there is none."""
        if self.profile is None:
            raise BadInput("profile: it is missing: give a profile, or the name of its file.")
        return profile_of(self.profile, "profile")

    def sine(self) -> SineFile:
        held = self.profile_file()
        if not isinstance(held, SineFile):
            raise BadInput(f"profile: it is of kind {held.kind}; a sine profile is wanted here.")
        return held

    def random(self) -> RandomFile:
        held = self.profile_file()
        if not isinstance(held, RandomFile):
            raise BadInput(f"profile: it is of kind {held.kind}; a random profile is wanted here.")
        return held

    def time(self) -> TimeFile:
        held = self.profile_file()
        if not isinstance(held, TimeFile):
            raise BadInput(f"profile: it is of kind {held.kind}; a time profile is wanted here.")
        return held

    def volts_per_unit(self, role: str) -> float | None:
        """V per m/s² of a role, None where the settings say nothing."""
        given = self.sensitivity.get(role)
        if given is None and role == "control":
            given = self.control_sensitivity
        if given is None:
            return None
        value = parse(given, "mV/(m/s^2)", f"sensitivity.{role}") * 1e-3
        if value <= 0:
            raise BadInput(f"sensitivity.{role}: it must be above zero.")
        return value


def in_units(record: Mapping[str, Channel], settings: ShakerSettings) -> dict[str, Channel]:
    """Acceleration channels in m/s², everything else as it is. Raises BadInput for a control channel that can't be."""
    from ...core.quantities import same_kind

    for role in settings.sensitivity:
        if role not in record:
            raise BadInput(f"sensitivity: there is no role '{role}' here: {', '.join(record)}.")
    made = {}
    for role, channel in record.items():
        per = settings.volts_per_unit(role)
        if per is not None and same_kind(channel.unit, "V"):
            made[role] = channel.in_unit("V").in_unit("m/s²", 1 / per)
        elif same_kind(channel.unit, "m/s^2"):
            made[role] = channel.in_unit("m/s²")
        else:
            made[role] = channel
    if made["control"].unit != "m/s²":
        raise BadInput(
            f"control: its record is in '{record['control'].unit}': say control_sensitivity, like '10 mV/(m/s^2)'."
        )
    return made


def follow_profile(given: dict[str, Any], folder: Path) -> dict[str, Any]:
    """Settings with the profile in them instead of its file's name; a time profile's own file made absolute."""
    held = given.get("profile")
    if isinstance(held, str):
        from ...lab.textfiles import load_yaml

        place = Path(held) if Path(held).is_absolute() else folder / held
        held, folder = load_yaml(place), place.parent
    if isinstance(held, dict):
        held = _found(held, folder)
        if isinstance(held.get("then"), list):
            held = {**held, "then": [_found(p, folder) if isinstance(p, dict) else p for p in held["then"]]}
    return given if held is None else {**given, "profile": held}


def _found(part: dict[str, Any], folder: Path) -> dict[str, Any]:
    """A record's file made absolute."""
    file = part.get("file")
    if not isinstance(file, str) or Path(file).is_absolute():
        return part
    return {**part, "file": str((folder / file).resolve())}


def control_roles(roles: list[str], control: ControlPart) -> list[str]:
    """Roles of the control points among those that are there. Raises BadInput."""
    wanted = control.points or [r for r in roles if r.startswith("control")]
    for role in wanted:
        if role not in roles:
            raise BadInput(f"control.points: there is no role '{role}' here: {', '.join(roles)}.")
    return wanted


DEFAULT_SINE_TOLERANCE = BandPart(low="-15 %", high="15 %")
"""IEC 60068-2-6, 4.1.4: ±15 % at the reference point."""
DEFAULT_RANDOM_TOLERANCE = BandPart(low="-3 dB", high="3 dB")
"""IEC 60068-2-64, 4.3: ±3 dB."""


def with_tolerance(held: SineFile | RandomFile) -> tuple[Any, bool]:
    """The file with a tolerance, its own or the standard's; and whether it is the standard's."""
    parts = held.segments if isinstance(held, SineFile) else held.points
    if held.tolerance is not None or any(p.tolerance for p in parts):
        return held, False
    usual = DEFAULT_SINE_TOLERANCE if isinstance(held, SineFile) else DEFAULT_RANDOM_TOLERANCE
    return held.model_copy(update={"tolerance": usual}), True


__all__ = ["SweepPart"]
