"""What a dynamic mechanical analysis is told: the specimen, the instrument's own phase, and what is driven."""

from __future__ import annotations

import math
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, field_validator, model_validator

from ...contracts.settings import Model, quantity
from ...core.errors import BadInput
from ...core.frame import dynamic
from ...core.quantities import degrees, parse
from .shared import FrameSettings

SLOW = 10.0
"""Hz up to which the phase that is assumed of an instrument counts as it is stated"""


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
    phase_uncertainty: Annotated[float, quantity("deg")] | None = None
    """Expanded (k = 2), of the instrument's own phase where nobody measured it; above 10 Hz it grows with frequency, as
    what comes late does"""
    window: int = 5
    """Periods of one point"""
    temperature_uncertainty: Annotated[float, quantity("K")] | None = None
    """Expanded (k = 2), of the specimen's temperature"""
    play: DynamicSettings = Field(default_factory=DynamicSettings)

    @model_validator(mode="after")
    def _sensible(self) -> DmaSettings:
        if self.phase_uncertainty is not None and self.phase_uncertainty < 0:
            raise ValueError("phase_uncertainty: it must not be below zero.")
        if self.window < 1 or self.compliance < 0 or (self.frequency is not None and self.frequency <= 0):
            raise ValueError("window must be 1 or more, frequency above zero, compliance not below it.")
        at = [p.frequency for p in self.instrument]
        if at != sorted(set(at)):
            raise ValueError("instrument: its frequencies must rise from row to row.")
        return self

    def measured(self, frequency: float) -> bool:
        """Whether the instrument's own phase is known at a frequency [Hz]."""
        return bool(self.instrument) and frequency <= 1.01 * self.instrument[-1].frequency

    def turned(self, frequency: float) -> tuple[complex, float]:
        """Factor on a stiffness at a frequency [Hz] that takes the instrument's own phase off, and the expanded
        uncertainty of that [rad]: by straight lines between the frequencies at which it was measured, and from none at
        rest to the lowest. One where nobody measured it, with the uncertainty that is stated for that; not a number
        where none is."""
        own = self.instrument
        if not self.measured(frequency):
            stated = math.nan if self.phase_uncertainty is None else self.phase_uncertainty
            return 1.0 + 0j, math.radians(stated) * max(frequency / SLOW, 1.0)
        x = [0.0, *(p.frequency for p in own)]
        phase = np.interp(frequency, x, [0.0, *(p.phase for p in own)])
        doubt = np.interp(frequency, x, [own[0].uncertainty, *(p.uncertainty for p in own)])
        return complex(np.exp(-1j * np.radians(phase))), float(np.radians(doubt))
