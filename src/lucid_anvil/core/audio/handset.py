"""Loudness ratings and masks of a telephone's responses (ITU-T P.79, P.64)."""

from __future__ import annotations

import numpy as np

from ..signal.sinefit import Floats

M = 0.175
WEIGHTS = {
    "sending": (76.9, 62.6, 62.0, 44.7, 53.1, 48.5, 47.6, 50.1, 59.1, 56.7, 72.2, 72.6, 89.2, 117.0),
    "receiving": (85.0, 74.7, 79.0, 63.7, 73.5, 69.1, 68.0, 68.7, 75.1, 70.4, 81.4, 76.5, 93.3, 113.8),
}
"""dB, of the thirds of an octave from 200 Hz to 4 kHz (ITU-T P.79, table 1, as differences to m)"""
LOWEST, HIGHEST = 200.0, 4000.0


def loudness_rating(sensitivity: Floats, way: str) -> float:
    """dB, of sensitivities [dB re 1 V/Pa or 1 Pa/V] in the thirds of an octave from 200 Hz to 4 kHz; `way` sending or
    receiving. LR = −(10/m)·lg Σ 10^(0.1·m·(S − W)) (ITU-T P.79, equation 2-1)."""
    w = np.array(WEIGHTS[way])
    return float(-10 / M * np.log10(np.sum(10 ** (0.1 * M * (np.asarray(sensitivity) - w)))))


def margins(f: Floats, level: Floats, rows: list[tuple[float, float]], upper: bool) -> Floats:
    """Distance of a curve to a line of a mask, straight over log frequency, positive where it is kept; NaN outside its
    own points."""
    x, y = (np.array(v, dtype=float) for v in zip(*rows, strict=True))
    line = np.interp(np.log(f), np.log(x), y)
    inside = (f >= x[0] * (1 - 1e-9)) & (f <= x[-1] * (1 + 1e-9))
    return np.where(inside, line - level if upper else level - line, np.nan)


def floated(low: Floats, high: Floats) -> float:
    """What both lines are shifted by [dB] so that the smaller of both margins is largest; 0 with one line alone."""
    if not np.isfinite(low).any() or not np.isfinite(high).any():
        return 0.0
    return float((np.nanmin(low) - np.nanmin(high)) / 2)


def lag(x: Floats, y: Floats, rate: float) -> tuple[float, float]:
    """Delay [s] of the best match of `y` to `x`, and how good it is (0 to 1), by cross-correlation."""
    n = int(2 ** np.ceil(np.log2(2 * x.size)))
    a, b = np.fft.rfft(x - x.mean(), n), np.fft.rfft(y - y.mean(), n)
    made = np.fft.irfft(b * np.conj(a), n)
    top = int(np.argmax(np.abs(made)))
    p, q, r = (abs(float(made[(top + k) % n])) for k in (-1, 0, 1))
    bend = p - 2 * q + r
    shift = 0.5 * (p - r) / bend if bend < 0 else 0.0
    scale = float(np.sqrt(np.sum((x - x.mean()) ** 2) * np.sum((y - y.mean()) ** 2)))
    return ((top if top < n // 2 else top - n) + shift) / rate, q / scale if scale > 0 else 0.0
