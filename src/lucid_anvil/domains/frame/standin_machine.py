"""What lies between a stand-in frame's valve and what its sensors say: play of the drive, a load cell that rings, an
encoder that comes late."""

from __future__ import annotations

from typing import Annotated

import numpy as np
from pydantic import Field

from ...contracts.settings import Model, quantity
from ...core.signal.sinefit import Floats


class PinPart(Model):
    """The pin that holds an extensometer's arms while it is put on: what it shows then stands still."""

    springs: Annotated[float, quantity("m")] = 3e-5
    """by how much the arms move as it comes out"""
    out: Annotated[float, quantity("s")] | None = 0.2
    """after which somebody pulls it; missing: nobody does"""

    def __call__(self, extension: Floats, since: float) -> Floats:
        """What is shown of an extension [m], `since` s after the frame was switched on."""
        return extension if self.out is not None and since >= self.out else np.full(extension.size, -self.springs)


class CellPart(Model):
    """A load cell as the mass on a spring that it is."""

    resonance: Annotated[float, quantity("Hz")] = 1500.0
    damping: float = Field(default=0.03, gt=0, lt=1)
    """Share of the critical"""


class Cell:
    """What the cell shows of a force: a block at a time, at `rate` [Hz]."""

    def __init__(self, part: CellPart, rate: float) -> None:
        # Poles of the real one, and two zeros at half of the rate (matched z transformation): one at rest, and as late.
        angle = 2 * np.pi * part.resonance / rate
        pole = np.exp(-part.damping * angle + 1j * angle * np.sqrt(1 - part.damping**2))
        self.a = np.array([1.0, -2 * pole.real, abs(pole) ** 2])
        self.b = self.a.sum() / 4 * np.array([1.0, 2.0, 1.0])
        self.state: Floats | None = None

    def __call__(self, force: Floats) -> Floats:
        """N over N."""
        from scipy.signal import lfilter, lfilter_zi

        if self.state is None:
            self.state = lfilter_zi(self.b, self.a) * force[0]
        made, self.state = lfilter(self.b, self.a, force, zi=self.state)
        return np.asarray(made)


class Late:
    """A reading that comes late, as through a filter of the first order with a time constant `lag` [s]."""

    def __init__(self, lag: float, rate: float) -> None:
        # By the bilinear transformation: as late as the real one at low frequencies.
        self.keeps = (2 * lag * rate - 1) / (2 * lag * rate + 1) if lag > 0 else 0.0
        self.lag, self.state = lag, np.zeros(1)

    def __call__(self, x: Floats) -> Floats:
        if self.lag <= 0:
            return x
        from scipy.signal import lfilter

        half = (1 - self.keeps) / 2
        made, self.state = lfilter([half, half], [1.0, -self.keeps], x, zi=self.state)
        return np.asarray(made)


class Play:
    """A drive with backlash `width` [m]: at each turn the crosshead stays until the drive has crossed it."""

    def __init__(self, width: float) -> None:
        self.half = width / 2
        self.at = 0.0

    def __call__(self, drive: Floats) -> Floats:
        """Where the crosshead is [m], over where the drive is."""
        if not self.half:
            return drive
        # From turn to turn of the drive it either stays or is pushed one way: no walk over samples.
        turns = np.flatnonzero(np.diff(np.sign(np.diff(drive))) != 0) + 2
        made = np.empty_like(drive)
        begun = 0
        for end in (1, *turns, drive.size):
            piece = drive[begun:end]
            made[begun:end] = np.clip(self.at, piece - self.half, piece + self.half)
            self.at = float(made[end - 1])
            begun = int(end)
        return made
