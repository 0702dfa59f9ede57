"""What the frame's methods share: channels in N and m, the specimen, stated uncertainties."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, model_validator

from ...contracts.method import BenchFacts, Input, Method, MethodSettings
from ...contracts.recording import Channel, Floats
from ...contracts.samples import by_steps, samples_in
from ...contracts.settings import Model, quantity
from ...core.errors import BadInput
from ...core.frame.tension import area_of

Length = Annotated[float, quantity("m")]
SIZES = {
    "round": ("diameter",),
    "flat": ("width", "thickness"),
    "tube": ("diameter", "inner_diameter"),
    "area": ("area",),
    "weighed": ("mass", "density", "total_length"),
}
DENSITIES = (5.0, 25e3)
"""kg/m³ between which whatever is tested lies: foam, and the heaviest metals"""


class Specimen(Model):
    """Its sizes as measured before the test."""

    shape: Literal["round", "flat", "tube", "area", "weighed"] | None = None
    """Told from the sizes that are given where it is missing"""
    diameter: Length | None = None
    width: Length | None = None
    thickness: Length | None = None
    inner_diameter: Length | None = None
    area: Annotated[float, quantity("m^2")] | None = None
    gauge_length: Length | None = None
    """Of the extensometer"""
    parallel_length: Length | None = None
    """Strain from the crosshead's displacement counts over it"""
    transverse_length: Length | None = None
    mass: Annotated[float, quantity("kg")] | None = None
    density: Annotated[float, quantity("kg/m^3")] | None = None
    total_length: Length | None = None
    """Of a specimen as wide everywhere: its area is its mass over density and length (ISO 6892-1 allows it for what
    can't be measured across)"""

    @model_validator(mode="after")
    def _positive(self) -> Specimen:
        for name in type(self).model_fields:
            value = getattr(self, name)
            if isinstance(value, float) and value <= 0:
                raise ValueError(f"{name}: it must be above zero.")
        if self.diameter and self.inner_diameter and self.inner_diameter >= self.diameter:
            raise ValueError("inner_diameter: it must be smaller than the diameter.")
        if self.density is not None and not DENSITIES[0] <= self.density <= DENSITIES[1]:
            raise ValueError(f"density: {self.density:g} kg/m³ is nothing's: look at its unit.")
        return self

    def section(self) -> float | None:
        """Original area [m²]; None where no size tells it. Raises BadInput where a size of its shape is missing."""
        shape = self.shape
        if shape is None:
            if self.area is not None:
                shape = "area"
            elif self.diameter is not None:
                shape = "tube" if self.inner_diameter is not None else "round"
            elif self.width is not None or self.thickness is not None:
                shape = "flat"
            elif self.mass is not None:
                shape = "weighed"
            else:
                return None
        for name in SIZES[shape]:
            if getattr(self, name) is None:
                raise BadInput(f"specimen: its {name} is missing: a specimen of shape {shape} needs it.")
        if shape == "area":
            return self.area
        if shape == "weighed":
            assert self.mass and self.density and self.total_length
            return self.mass / (self.density * self.total_length)
        return area_of(shape, {name: float(getattr(self, name)) for name in SIZES[shape]})


class FrameSettings(MethodSettings):
    """Channels and what is known of them."""

    sensitivity: dict[str, Any] = Field(default_factory=dict)
    """By role, of channels that are recorded in volts, like '2 mV/kN'"""
    uncertainty: dict[str, Annotated[float, quantity("%")]] = Field(default_factory=dict)
    """By role (and area), expanded (k = 2), of the instruments"""


class FrameMethod(Method):
    """Records of a frame: what rests, breaks or goes slowly is no fault there."""

    reads_only = True

    def guarded(self, settings: Any, inputs: Sequence[Input]) -> dict[str, Any]:
        """Where there is an encoder, that the crosshead goes as it is told; and the specimen's gauge length."""
        there = any(i.role == "displacement" and i.kind == "length" for i in inputs)
        gauge = getattr(getattr(settings, "specimen", None), "gauge_length", None)
        made: dict[str, Any] = {} if gauge is None else {"gauge": gauge}
        return made | ({"guards": [{"watch": "frame_motion"}]} if there else {})


def sensed(given: dict[str, Any], bench: BenchFacts) -> dict[str, Any]:
    """Settings with the sensitivities [V per unit] of force and length channels that the bench knows, or their
    characteristic where they were calibrated step by step."""
    units = {"force": "V/N", "length": "V/m", "temperature": "V/°C"}
    known = {
        role: by_steps(bench, role) or f"{bench.sensitivity[role]!r} {units[kind]}"
        for role, kind in bench.kinds.items()
        if kind in units and role in bench.sensitivity
    }
    return {**given, "sensitivity": {**known, **given.get("sensitivity", {})}}


def length_in(record: Mapping[str, Channel], role: str, settings: FrameSettings) -> Floats:
    """Samples of a length [m]."""
    return samples_in(record, role, "m", settings.sensitivity)


def thinned(n: int, most: int = 4000) -> np.ndarray:
    """Indices of at most about `most` samples, evenly, both ends kept."""
    return np.unique(np.linspace(0, n - 1, min(n, most)).astype(int))
