"""Noise to drive loudspeakers with for long: shaped, and limited to a crest factor, as long as it is wanted."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from ..errors import BadInput
from ..signal.sinefit import Floats

TAPS = 8192
"""Half of the length of the shaping filter: it tells 20 Hz from 40 Hz at 48 kHz"""
HIGHEST_CREST = 4.5
"""Beyond it normal noise hardly ever goes"""
EDGE = 24.0
"""dB per octave by which the level falls outside of the band"""


def clip_for(crest: float) -> float:
    """Where normal noise of rms 1 is clipped, in its rms, so that peak over rms is `crest` afterwards.

    Of clipped noise E[x²] = (2Φ(a) − 1) − 2aφ(a) + 2a²(1 − Φ(a)); solved for a / √E[x²]. Raises BadInput.
    """
    from scipy.optimize import brentq
    from scipy.stats import norm

    if not 1.05 <= crest <= HIGHEST_CREST:
        raise BadInput(f"crest: {crest:g} is not between 1.05 and {HIGHEST_CREST:g} (a ratio; 2 is 6 dB).")
    return float(brentq(lambda a: a / _rms_clipped(a, norm) - crest, 1e-3, 2 * HIGHEST_CREST))


def _rms_clipped(a: float, norm: Any) -> float:
    beyond = float(norm.sf(a))
    inside = 1 - 2 * beyond - 2 * a * float(norm.pdf(a))
    return float(np.sqrt(inside + 2 * a * a * beyond))


def magnitudes(shape: str, low: float, high: float, curve: Sequence[Sequence[float]], frequency: Floats) -> Floats:
    """Amplitude density over frequency [Hz], in any unit.

    `shape`: white; pink (−3 dB per octave); curve: rows of [Hz, dB], power in equal shares of an octave, straight over
    log frequency and level beyond its ends. Outside of low to high it falls by 24 dB per octave. Raises BadInput.
    """
    f = np.maximum(np.asarray(frequency, float), 1e-6)
    made = np.ones(f.size) if shape == "white" else f**-0.5
    if shape == "curve":
        rows = np.array(curve, float)
        if rows.ndim != 2 or rows.shape[0] < 2 or rows.shape[1] != 2 or (np.diff(rows[:, 0]) <= 0).any():
            raise BadInput("curve: it takes two rows of [Hz, dB] or more, their frequencies rising.")
        if rows[0, 0] <= 0:
            raise BadInput("curve: its frequencies must be above zero.")
        made = made * 10 ** (np.interp(np.log(f), np.log(rows[:, 0]), rows[:, 1]) / 20)
    beyond = np.maximum(np.log2(low / f), 0.0) + np.maximum(np.log2(f / high), 0.0)
    made = made * 10 ** (-EDGE * beyond / 20)
    made[f < low / 16] = 0.0
    return np.asarray(made)


class Programme:
    """Noise of rms 1, block by block, that never repeats: the same from the same seed."""

    def __init__(
        self, shape: str, low: float, high: float, curve: Sequence[Sequence[float]], crest: float, rate: float,
        seed: int,
    ) -> None:  # fmt: skip
        """Raises BadInput for a band, a curve or a crest factor that can't be."""
        if not 0 < low < high <= 0.48 * rate:
            raise BadInput(f"band: it goes from above zero to {0.48 * rate:.0f} Hz at most here, the lower first.")
        n = 2 * TAPS
        wanted = magnitudes(shape, low, high, curve, np.asarray(np.fft.rfftfreq(n, 1 / rate), float))
        # A zero-phase answer cut to a filter's length, so that it does not wrap around from block to block.
        answer = np.roll(np.fft.irfft(wanted, n), TAPS // 2)[:TAPS] * np.hanning(TAPS)
        self.filter = np.fft.rfft(answer / np.sqrt(np.sum(answer**2)), n)
        self.clip = clip_for(crest)
        self.scale = crest / self.clip
        self.noise = np.random.default_rng(seed)
        self.before = self.noise.standard_normal(TAPS)
        self.ready: Floats = np.zeros(0)

    def next(self, count: int) -> Floats:
        """As many samples more; peak is the crest factor, rms 1 over long."""
        while self.ready.size < count:
            fresh = self.noise.standard_normal(TAPS)
            both = np.concatenate([self.before, fresh])
            self.before = fresh
            shaped = np.fft.irfft(np.fft.rfft(both) * self.filter, both.size)[TAPS:]
            limited = np.clip(shaped, -self.clip, self.clip) * self.scale
            self.ready = np.concatenate([self.ready, limited])
        made, self.ready = self.ready[:count], self.ready[count:]
        return made
