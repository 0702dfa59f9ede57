"""A viscoelastic bar in a chamber: many springs with dashpots side by side, their times shifted by the temperature."""

from __future__ import annotations

from typing import Annotated

import numpy as np
from pydantic import Field

from ...contracts.settings import Model, Seconds, quantity
from ...core.signal.sinefit import Floats

BRANCHES = 25
WIDE = 3.5
"""Standard deviations of the spread that the branches reach over"""


class ViscousPart(Model):
    """A bar that is viscoelastic, in a chamber: relaxation times spread about one that the temperature shifts
    (Williams, Landel, Ferry)."""

    glassy: Annotated[float, quantity("Pa")] = 2.4e9
    rubbery: Annotated[float, quantity("Pa")] = 4e6
    spread: float = Field(default=1.6, gt=0.2, le=6)
    """decades of time over which it relaxes, as one standard deviation"""
    reference: float = 62.0
    """°C at which the middle of its relaxation takes `time`"""
    time: Seconds = 0.1
    c1: float = Field(default=17.4, gt=0)
    c2: float = Field(default=51.6, gt=0)
    """K"""
    area: Annotated[float, quantity("m^2")] = 20e-6
    length: Annotated[float, quantity("m")] = 0.03
    air_lag: Seconds = 20.0
    """of the chamber's air behind its set point"""
    lag: Seconds = 10.0
    """of the bar behind the air"""


def branches(part: ViscousPart) -> tuple[Floats, Floats]:
    """Moduli [Pa] and relaxation times [s] at the reference temperature."""
    u = np.linspace(-WIDE, WIDE, BRANCHES)
    share = np.exp(-(u**2) / 2)
    return (part.glassy - part.rubbery) * share / share.sum(), part.time * 10 ** (part.spread * u)


def shift(part: ViscousPart, temperature: float) -> float:
    """lg of the factor on all relaxation times (Williams, Landel, Ferry); stiff and slow far below."""
    off = temperature - part.reference
    if off <= -part.c2 + 1.0:
        return 12.0
    return float(np.clip(-part.c1 * off / (part.c2 + off), -12.0, 12.0))


def modulus(part: ViscousPart, frequency: float, temperature: float) -> complex:
    """The true complex modulus [Pa], for those who test what reads it."""
    e, tau = branches(part)
    w = 2j * np.pi * frequency * tau * 10 ** shift(part, temperature)
    return complex(part.rubbery + np.sum(e * w / (1 + w)))


class Bar:
    """Force over travel, a block at a time; strain and temperature carried on."""

    def __init__(self, part: ViscousPart, rate: float) -> None:
        self.part, self.rate = part, rate
        self.e, self.tau = branches(part)
        self.held = np.zeros(BRANCHES)
        """Pa in each branch"""
        self.strain = 0.0
        self.temperature = 23.0

    def __call__(self, travel: Floats) -> tuple[Floats, Floats]:
        """Force [N] and strain."""
        from scipy.signal import lfilter

        strain = travel / self.part.length
        steps = np.diff(strain, prepend=self.strain)
        tau = self.tau * 10 ** shift(self.part, self.temperature)
        x = 1 / (self.rate * tau)
        fade = np.exp(-x)
        gain = self.e * np.where(x > 1e-6, -np.expm1(-x) / np.maximum(x, 1e-12), 1.0)
        stress = self.part.rubbery * strain
        for i in range(BRANCHES):
            if fade[i] < 1e-12:
                own = gain[i] * steps
            else:
                own, _ = lfilter([gain[i]], [1.0, -fade[i]], steps, zi=[fade[i] * self.held[i]])
            self.held[i] = own[-1]
            stress = stress + own
        self.strain = float(strain[-1])
        return stress * self.part.area, strain
