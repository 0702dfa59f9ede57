"""A loudspeaker driven for long: resistance of its coil by a probe tone, and the temperature that follows."""

from __future__ import annotations

import numpy as np

from ..signal.sinefit import Floats

COPPER, ALUMINIUM = 0.00393, 0.00403
"""1/K, temperature coefficients of resistance at 20 °C (IEC 60028 for copper)"""


def impedance_at(voltage: Floats, current: Floats, rate: float, frequency: float) -> complex:
    """Ohm at the probe's frequency, of one stretch: what else is driven there goes through the same coil and helps.
    Three lines about it are taken together, by a Hann window."""
    n = voltage.size
    w = np.hanning(n + 2)[1:-1]
    t = np.arange(n) / rate
    made = []
    for k in (-0.5, 0.0, 0.5):
        turn = w * np.exp(-2j * np.pi * (frequency + k * rate / n) * t)
        made.append((np.sum(voltage * turn), np.sum(current * turn)))
    cross = sum(v * np.conj(i) for v, i in made)
    power = sum(abs(i) ** 2 for _, i in made)
    return complex(cross / power) if power > 0 else complex("nan")


def coil_temperature(resistance: Floats, cold: float, cold_temperature: float, coefficient: float) -> Floats:
    """°C: (R/R0)·(1/α + T0 − 20) − 1/α + 20, with α at 20 °C (IEC 60268-21, 22; resistances in ohm)."""
    base = 1 / coefficient - 20
    return np.asarray(resistance / cold * (base + cold_temperature) - base)
