"""Mains hum that is coherent over a record: found where it can be told from the tone, known where it can't."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .sinefit import Complexes, Floats, turning

ORDERS = np.arange(1.0, 7.0)
"""Multiples of the mains that are looked for."""


def line_frequencies(mains: float | None) -> Floats:
    """Hum lines to fit [Hz]; both families while the mains frequency is not known (None)."""
    if mains is not None:
        return mains * ORDERS
    return np.unique(np.concatenate([50.0 * ORDERS, 60.0 * ORDERS[:5]]))


@dataclass(frozen=True)
class Hum:
    """Hum lines of a record; arrays are (lines,) or (channels, lines)."""

    frequencies: Floats
    """Nominal, Hz."""
    shift: Floats
    """Hz, what each line is off its nominal frequency."""
    phasors: Complexes
    """At time zero of the record, in the channel's unit."""
    scatter: Floats
    """Standard deviation of a prediction, same unit; endless where the hum is not coherent."""
    seen: np.ndarray
    """True where a line stands out of its scatter in some channel."""

    def at(self, t: float) -> Complexes:
        """Phasors, referred to the nominal frequencies, as they stand around time t [s]."""
        return self.phasors * np.exp(2j * np.pi * self.shift * t)

    def wave(self, channel: int, line: int, rate: float, t0: float, n: int) -> Floats:
        """The line's waveform in one channel: n samples from t0 [s] on."""
        f = self.frequencies[line] + self.shift[line]
        return (self.phasors[channel, line] * turning(f, rate, t0, n)).real


def gather(frequencies: Floats, phasors: Complexes, times: Floats, noise: Floats) -> Hum:
    """Join the hum phasors that separate stretches gave into one coherent hum.

    `phasors` (stretches, channels, lines), NaN where a line could not be told from the tone; `times`
    (stretches,) middles in seconds; `noise` (stretches, channels) the standard error of a phasor. The common
    shift off the nominal frequency, up to ±0.15 Hz a multiple, is the one that lines the phasors up best.
    """
    stretches, channels, lines = phasors.shape
    grid = np.linspace(-0.15, 0.15, 1201)
    shift = np.zeros(lines)
    mean = np.zeros((channels, lines), dtype=complex)
    scatter = np.full((channels, lines), np.inf)
    seen = np.zeros(lines, dtype=bool)
    for i in range(lines):
        usable = np.flatnonzero(np.isfinite(phasors[:, 0, i].real))
        if usable.size < 3:
            continue
        p = phasors[usable, :, i]
        size = np.median(np.abs(p), axis=0)
        error = np.median(noise[usable], axis=0)
        strongest = int(np.argmax(size / np.maximum(error, 1e-300)))
        if not np.any(size > 3 * error):
            continue
        unit = p[:, strongest] / np.maximum(np.abs(p[:, strongest]), 1e-300)
        coherence = np.abs(np.exp(-2j * np.pi * np.outer(grid, times[usable])) @ unit) / usable.size
        best = int(np.argmax(coherence - 1e-6 * np.abs(grid)))
        shift[i] = grid[best] if coherence[best] > 0.7 else 0.0
        turned = p * np.exp(-2j * np.pi * shift[i] * times[usable])[:, None]
        centre = np.median(turned.real, axis=0) + 1j * np.median(turned.imag, axis=0)
        spread = 1.4826 * np.median(np.abs(turned - centre), axis=0)
        mean[:, i] = centre
        scatter[:, i] = spread
        seen[i] = bool(np.any(np.abs(centre) > 4 * spread)) or bool(np.any(size > 5 * error))
    return Hum(frequencies, shift, mean, scatter, seen)
