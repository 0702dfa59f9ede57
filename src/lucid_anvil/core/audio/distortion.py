"""Harmonic and total distortion of a tone (IEC 60268-3, 14.12; definitions as in the module's docstrings)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..signal.sinefit import Floats
from .tones import EPS, LEAST_PERIODS, Tones, density, fit, strongest


@dataclass(frozen=True)
class Ratio:
    """A ratio that noise can lift: its value with the noise's power taken off, and what is left of doubt."""

    value: float
    low: float
    high: float
    """Ends of the doubt, k = 2"""
    floor: float
    """What noise alone, and the arithmetic, would have shown in its place"""


@dataclass(frozen=True)
class Distortion:
    """Of one tone in one bandwidth. Ratios are plain numbers."""

    frequency: float
    level: float
    """rms of the fundamental, in the unit of the samples"""
    level_doubt: float
    """Expanded (k = 2), of noise alone"""
    orders: tuple[int, ...]
    harmonics: Floats
    """rms of the harmonics in band, as fitted"""
    phases: Floats
    """Degrees, of the harmonics re the fundamental's zero crossing"""
    thd: Ratio
    total: float
    """rms of all in band but the fundamental, over rms of all in band"""
    total_doubt: float
    noise: float
    """rms of what is neither fundamental nor harmonic, in band"""
    offset: float
    residual: Floats
    """All but the fundamental, shape (samples,)"""


def noisy_ratio(powers: Floats, noises: Floats, base: float) -> Ratio:
    """Root of the sum of `powers` over `base` [rms], with the noise's part taken off; all powers rms².

    A line of amplitude a in noise of power n shows a² + n on average, with variance n² + 2·a²·n (Rice).
    """
    own = np.maximum(powers - noises, 0.0)
    spread = float(np.sqrt(np.sum(noises**2 + 2 * own * noises)))
    held = float(np.sum(powers) - np.sum(noises))
    least = EPS * base
    value = np.sqrt(max(held, least**2))
    low, high = np.sqrt(max(held - 2 * spread, 0.0)), np.sqrt(max(held, 0.0) + 2 * spread + least**2)
    floor = np.sqrt(float(np.sum(noises)))
    return Ratio(float(value / base), float(low / base), float(high / base), float(floor / base))


def band_power(x: Floats, rate: float, low: float, high: float, weight: Floats | None = None) -> float:
    """Power (rms²) between two frequencies [Hz], edges ideal; `weight`: factors on amplitude at the lines of
    `tones.density`."""
    f, held = density(x, rate)
    step = f[1]
    # A line stands for the half step on either side of it: the edges cut lines in part.
    share = np.clip((np.minimum(f + step / 2, high) - np.maximum(f - step / 2, low)) / step, 0, 1)
    return float(np.sum(held * share * (1 if weight is None else weight**2)) * step)


def fundamental(x: Floats, rate: float, wanted: float | None, band: tuple[float, float]) -> float | None:
    """Frequency [Hz] of the tone: the strongest line in band, or within 3 % of the one wanted; None without one."""
    low, high = band if wanted is None else (0.97 * wanted - 2 * rate / x.size, 1.03 * wanted + 2 * rate / x.size)
    # A tone that is asked for fills the stretch it is looked for in; what it must stand out of lies around that.
    ground = None if wanted is None else (0.3 * wanted, 3 * wanted + 40 * rate / x.size)
    found = strongest(x, rate, low, min(high, 0.499 * rate), ground=ground)
    return found[0] if found else None


def analyse(x: Floats, rate: float, frequency: float, band: tuple[float, float], highest: int = 10) -> Distortion:
    """Fundamental, harmonics 2 to `highest` in band and the rest of the band, of samples `x` at `rate` [Hz].

    `frequency` [Hz] good to half a line. thd = rms sum of the harmonics over the fundamental; total = rms of all in
    band but the fundamental over rms of all in band. Raises ValueError where the record is too short.
    """
    low, high = band[0], min(band[1], rate / 2)
    orders = [k for k in range(2, highest + 1) if k * frequency < 0.499 * rate]
    if x.size / rate * frequency < LEAST_PERIODS:
        raise ValueError("the record is too short")
    made: Tones = fit(x, rate, np.array([[k] for k in (1, *orders)]), np.array([frequency]))
    # A harmonic on the band's edge belongs to it.
    inside = np.array([low * (1 - 1e-6) <= f <= high * (1 + 1e-6) for f in made.frequencies[1:]], dtype=bool)
    level = float(made.rms[0])
    powers, noises = made.power[1:][inside], made.noise[1:][inside]
    rest = band_power(made.residual, rate, low, high)
    beside = float(np.sum(powers)) + rest
    base = float(made.power[0])
    n = x.size / rate
    # Noise in band is known to one part in the root of its bandwidth times the time.
    scatter = 1 / np.sqrt(max((high - low) * n / 2, 1.0))
    total = np.sqrt(beside / (beside + base)) if beside + base > 0 else 0.0
    wave = np.zeros(x.size)
    t = np.arange(x.size) / rate
    for f, p in zip(made.frequencies[1:], made.phasors[1:], strict=True):
        wave += (p * np.exp(2j * np.pi * f * t)).real
    turned = np.angle(made.phasors[0] * 1j)
    phases = np.angle(made.phasors[1:] * 1j * np.exp(-1j * turned * np.array(orders)), deg=True)
    return Distortion(
        frequency=float(made.bases[0]),
        level=level,
        level_doubt=float(2 * np.sqrt(made.noise[0] / 2)),
        orders=tuple(k for k, ok in zip(orders, inside, strict=True) if ok),
        harmonics=made.rms[1:][inside],
        phases=phases[inside],
        thd=noisy_ratio(powers, noises, level),
        total=float(total),
        total_doubt=float(2 * total * scatter * (rest / beside if beside > 0 else 0.0)),
        noise=float(np.sqrt(rest)),
        offset=made.offset,
        residual=made.residual + wave,
    )
