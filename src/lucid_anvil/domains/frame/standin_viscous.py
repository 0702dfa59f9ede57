"""A viscoelastic bar in a chamber: many springs with dashpots side by side, their times shifted by the temperature."""

from __future__ import annotations

from typing import Annotated

import numpy as np
from pydantic import Field

from ...contracts.settings import Model, Seconds, quantity
from ...core.signal.sinefit import Floats

CLOSE = 1e-9
"""Share of a strain by which it may still be off where the frame gives way"""
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
    machine: Annotated[float, quantity("N/m")] | None = None
    """of frame, cell and grips in series with it; rigid when missing"""
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
        part = self.part
        tau = self.tau * 10 ** shift(part, self.temperature)
        x = 1 / (self.rate * tau)
        fade = np.exp(-x)
        gain = self.e * np.where(x > 1e-6, -np.expm1(-x) / np.maximum(x, 1e-12), 1.0)
        if part.machine is None:
            strain = travel / part.length
            stress, held = self._stress(strain, fade, gain)
        else:
            # Travel is the bar's and the machine's. What the bar answers at once is known beforehand; what it
            # remembers is not, and changes little within a block: a few rounds find it.
            once = float(part.rubbery + gain.sum())
            give = part.area / part.machine
            strain = np.full(travel.size, self.strain)
            for _ in range(60):
                stress, held = self._stress(strain, fade, gain)
                better = (travel - give * (stress - once * strain)) / (part.length + give * once)
                off = float(np.max(np.abs(better - strain)))
                strain = better
                if off < CLOSE * float(np.max(np.abs(strain))) + 1e-15:
                    break
        self.held, self.strain = held, float(strain[-1])
        return stress * part.area, strain

    def _stress(self, strain: Floats, fade: Floats, gain: Floats) -> tuple[Floats, Floats]:
        """Pa over the strains of a block, and Pa in each branch at its end."""
        from scipy.signal import lfilter

        steps = np.diff(strain, prepend=self.strain)
        stress, held = self.part.rubbery * strain, self.held.copy()
        for i in range(BRANCHES):
            if fade[i] < 1e-12:
                own = gain[i] * steps
            else:
                own, _ = lfilter([gain[i]], [1.0, -fade[i]], steps, zi=[fade[i] * self.held[i]])
            held[i] = own[-1]
            stress = stress + own
        return stress, held
