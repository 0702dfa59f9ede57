"""Intermodulation of two tones: modulation and difference-frequency distortion (IEC 60268-3, 14.12.7 and 14.12.8)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..signal.sinefit import Floats
from .tones import Tones, fit

COMBOS = {
    "modulation": np.array([[1, 0], [0, 1], [-1, 1], [1, 1], [-2, 1], [2, 1]]),
    "difference": np.array([[1, 0], [0, 1], [-1, 1], [2, -1], [-1, 2]]),
}
"""Whole combinations of (f1, f2): the tones themselves first, then what they make of each other."""


@dataclass(frozen=True)
class Intermodulation:
    """Ratios are plain numbers; `doubt` expanded (k = 2), of noise alone."""

    frequencies: tuple[float, float]
    levels: tuple[float, float]
    second: float
    third: float
    total: float
    doubt: float
    floor: float
    products: tuple[tuple[float, float], ...]
    """(Hz, rms) of each product, noise taken off"""
    tones: Tones


def analyse(x: Floats, rate: float, kind: str, f1: float, f2: float) -> Intermodulation:
    """Products of two tones, f1 below f2 [Hz, good to half a line].

    modulation: d2 = (U₋₁ + U₊₁)/U_f2, d3 = (U₋₂ + U₊₂)/U_f2, U±k at f2 ± k·f1. difference: d2 = U(f2 − f1),
    d3 = U(2f1 − f2) + U(2f2 − f1), both over the sum of the two tones. total = √(d2² + d3²); all U rms. Each U has the
    power of noise taken off. Raises ValueError where the record is too short, or products fall outside of it.
    """
    combos = COMBOS[kind]
    highest = float(np.max(combos @ np.array([f1, f2])))
    if highest >= 0.499 * rate:
        raise ValueError(f"a product at {highest:g} Hz lies beyond half the sampling rate")
    made = fit(x, rate, combos, np.array([f1, f2]))
    rms = np.sqrt(np.maximum(made.power - made.noise, 0.0))
    # A line well out of the noise is known to half the noise's power; one in it to all of it.
    spread = np.where(rms**2 > made.noise, made.noise / 2, made.noise)
    base = rms[1] if kind == "modulation" else rms[0] + rms[1]
    pairs = ([2, 3], [4, 5]) if kind == "modulation" else ([2], [3, 4])
    second, third = (float(np.sum(rms[p]) / base) for p in pairs)
    total = float(np.hypot(second, third))
    u2, u3 = (float(np.sqrt(np.sum(spread[p])) / base) for p in pairs)
    doubt = np.hypot(second * u2, third * u3) / total if total > 0 else np.hypot(u2, u3)
    floor = np.hypot(*(np.sum(np.sqrt(made.noise[p])) / base for p in pairs))
    return Intermodulation(
        (float(made.bases[0]), float(made.bases[1])), (float(rms[0]), float(rms[1])), second, third, total,
        float(2 * doubt), float(floor),
        tuple((float(f), float(u)) for f, u in zip(made.frequencies[2:], rms[2:], strict=True)), made,
    )  # fmt: skip
