"""Dead weights and pressure balances: what a load is known by where nobody measures it."""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np
from pydantic import Field, model_validator

from ...contracts.recording import Floats
from ...contracts.settings import Model, quantity
from ...core.errors import BadInput
from ...core.quantities import parse
from .shared import Step

STANDARD_GRAVITY = 9.80665
"""m/s² (ISO 80000-4)"""
STANDARD_AIR = 1.2 / 8000.0
"""Buoyancy of conventional weights in conventional air (OIML D 28)"""
USUAL_TEMPERATURE = 20.0
"""°C at which a balance's area is stated"""


class Weights(Model):
    """What is laid on, one load a step, and what it presses with here."""

    loads: list[Any] = Field(min_length=3)
    """Rising: masses like 20 kg, or of a pressure balance the pressures that stand on its weights, like 10 bar"""
    gravity: Annotated[float, quantity("m/s^2")] = STANDARD_GRAVITY
    """Where the bench stands"""
    air_density: Annotated[float, quantity("kg/m^3")] = 1.2
    density: Annotated[float, quantity("kg/m^3")] = 7950.0
    """Of the weights"""
    expansion: Annotated[float, quantity("1/K")] = 0.0
    """Of a balance's area, of piston and cylinder together"""
    temperature: Annotated[float, quantity("degC")] = USUAL_TEMPERATURE
    """Of the balance"""

    @model_validator(mode="after")
    def _sensible(self) -> Weights:
        if not 9.7 < self.gravity < 9.9:
            raise ValueError("gravity: it is between 9.76 and 9.84 m/s² anywhere: give the value of your place.")
        if not 0 <= self.air_density < 0.01 * self.density:
            raise ValueError("air_density, density: air is a thousandth as heavy as weights are, about.")
        return self

    @property
    def lift(self) -> float:
        """Share of its weight that a mass in air presses with (buoyancy)."""
        return 1 - self.air_density / self.density

    def forces(self) -> list[float]:
        """N of each load: F = m·g·(1 − ρa/ρm) (ISO 7500-1, 6.4.5 for dead weights; EURAMET cg-4). Raises BadInput."""
        return _rising([parse(v, "kg", "weights.loads") * self.gravity * self.lift for v in self.loads])

    def pressures(self) -> list[float]:
        """Pa of each load of a balance whose weights are marked for standard gravity in conventional air at 20 °C
        (EURAMET cg-3): p = p_marked · g/g_n · (1 − ρa/ρm)/(1 − 1.2/8000) / (1 + λ·(t − 20 °C)). Raises BadInput."""
        by = self.gravity / STANDARD_GRAVITY * self.lift / (1 - STANDARD_AIR)
        by /= 1 + self.expansion * (self.temperature - USUAL_TEMPERATURE)
        return _rising([parse(v, "Pa", "weights.loads") * by for v in self.loads])


def _rising(made: list[float]) -> list[float]:
    if made[0] <= 0 or any(b <= a for a, b in zip(made, made[1:], strict=False)):
        raise BadInput("weights.loads: loads lie above zero and rise from one to the next.")
    return made


def as_reference(steps: list[Step], samples: int) -> Floats:
    """What a reference would have shown (samples,): each step's own load while it lasts, or what a person read there;
    nothing between."""
    made = np.zeros(samples)
    for step in steps:
        made[step.a : step.b] = step.nominal if step.reference is None else step.reference
    return made


def read_apart(steps: list[Step], gauge: bool) -> str:
    """What the loads rest on where the reference was typed, or read over its own line (`gauge`), for the finding.
    Raises BadInput for a step without."""
    missing = [s.where for s in steps if s.reference is None]
    if missing:
        who = "the gauge was not read" if gauge else "nobody typed what the reference showed"
        raise BadInput(f"steps: {missing[0]}: {who} there.")
    if gauge:
        return "The reference was read over its own line at each step; its readings stand among the run's events."
    return "The reference was read and typed by a person at each step; no record of it exists."


def said_of(weights: Weights) -> str:
    """What the loads rest on, for the finding."""
    return (f"Loads are those of the weights laid on: gravity {weights.gravity:.5f} m/s², air {weights.air_density:.3g}"
            f" kg/m³, weights {weights.density:.4g} kg/m³. That the right ones were laid on is what the unit itself"
            " bears out, to a fifth of a step.")  # fmt: skip
