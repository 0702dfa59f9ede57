"""A quick look at several inputs at once: level, peak, mean, the frequency that stands out, and a coarse spectrum."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .sinefit import Floats

STANDS_OUT = 20.0
"""Power over the median line's above which a line is a tone and no accident of noise: of a thousand lines of white
noise, whose powers are exponential, one in a million looks reaches it."""
CARRIES = 0.3
"""Share of all power that a tone must have to be called the input's frequency"""


@dataclass(frozen=True)
class Look:
    """What each of `n` inputs shows; arrays of shape (n,), in the unit of the samples."""

    mean: Floats
    rms: Floats
    """Of what is left when the mean is off"""
    peak: Floats
    """The largest deviation from the mean"""
    frequency: Floats
    """Hz; NaN where nothing stands out"""


def look(x: Floats, rate: float) -> Look:
    """`x` of shape (n, samples) at `rate` [Hz]. The frequency is the vertex of a parabola through the logarithm of
    the largest line and its neighbours (Hann window; good to a twentieth of a line for a lone tone)."""
    mean = x.mean(axis=1)
    held = x - mean[:, None]
    return Look(mean, held.std(axis=1), np.abs(held).max(axis=1), frequencies(held, rate))


def frequencies(held: Floats, rate: float) -> Floats:
    """The frequency [Hz] that stands out in each row, whose means are off; NaN where none does."""
    n = held.shape[1]
    power = np.abs(np.fft.rfft(held * np.hanning(n), axis=1)) ** 2
    made = np.full(len(held), np.nan)
    for i, p in enumerate(power):
        at = int(np.argmax(p[2:-1])) + 2 if p.size > 4 else 0
        ground = float(np.median(p))
        if at == 0 or p[at] <= STANDS_OUT * ground or p[max(at - 2, 0) : at + 3].sum() < CARRIES * p.sum():
            continue
        a, b, c = np.log(np.maximum(p[at - 1 : at + 2], 1e-300))
        bent = a - 2 * b + c
        made[i] = (at + (0.5 * (a - c) / bent if bent < 0 else 0.0)) * rate / n
    return made


def lines(x: Floats, rate: float, count: int = 120) -> tuple[Floats, Floats]:
    """A coarse spectrum for the eye: centres [Hz] of bands in equal ratios, and per row of `x` (n, samples) the rms
    of the largest line in each band (Hann window, amplitude of a lone sine held)."""
    n = x.shape[1]
    window = np.hanning(n)
    size = np.abs(np.fft.rfft((x - x.mean(axis=1, keepdims=True)) * window, axis=1)) * np.sqrt(2) / window.sum()
    edges = np.unique(np.round(np.geomspace(1, size.shape[1], count + 1)).astype(int))
    made = np.maximum.reduceat(size, edges[:-1], axis=1)
    centre = np.sqrt(edges[:-1] * np.maximum(edges[1:] - 1, edges[:-1])) * rate / n
    return centre, made


def still(x: Floats, rate: float, frequency: float | None, periods: float = 4.0, count: int = 200
          ) -> tuple[Floats, Floats]:  # fmt: skip
    """A picture that stands still: times [s] and at most `count` extremes per row of `x` (n, samples), a few periods
    from a rising zero of the row whose `frequency` is given; all that there is where none is."""
    span = x.shape[1]
    if frequency:
        span = int(np.clip(periods * rate / frequency, 64, span))
    first = x.shape[1] - span
    if frequency and first > 2:
        lead = x[int(np.argmax(x.std(axis=1)))]
        lead = lead - lead.mean()
        rising = np.flatnonzero((lead[:first] < 0) & (lead[1 : first + 1] >= 0))
        first = int(rising[-1]) if rising.size else first
    piece = x[:, first : first + span]
    step = -(-2 * span // count)
    if step <= 2:
        return np.arange(span) / rate, piece
    whole = piece[:, : span // step * step].reshape(len(x), -1, step)
    early = np.minimum(whole.argmin(axis=2), whole.argmax(axis=2))[..., None]
    late = np.maximum(whole.argmin(axis=2), whole.argmax(axis=2))[..., None]
    both = [np.take_along_axis(whole, at, axis=2)[..., 0] for at in (early, late)]
    pairs = np.stack(both, axis=2).reshape(len(x), -1)
    return np.arange(pairs.shape[1]) * step / 2 / rate, pairs
