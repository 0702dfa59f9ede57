"""A vibration sensor as an equation: what it puts out for an acceleration at its base."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .signal.sinefit import Complexes, Floats


@dataclass(frozen=True)
class SensorModel:
    """A seismic sensor with one mounted resonance and a first-order low corner."""

    sensitivity: float
    """V or C per m/s², well below resonance and above the corner."""
    resonance: float
    """Hz, mounted."""
    quality: float
    low_corner: float
    """Hz, −3 dB; 0 for a sensor that reads steady acceleration."""

    def upper(self, frequencies: Floats) -> Complexes:
        """The resonant part: 1 at low frequency."""
        x = np.asarray(frequencies, dtype=float) / self.resonance
        return np.asarray(1.0 / (1 - x**2 + 1j * x / self.quality), dtype=np.complex128)

    def response(self, frequencies: Floats) -> Complexes:
        """V or C per m/s² at each frequency."""
        f = np.asarray(frequencies, dtype=float)
        low = 1 - 1j * self.low_corner / f
        return np.divide(self.sensitivity * self.upper(f), low, dtype=np.complex128)
