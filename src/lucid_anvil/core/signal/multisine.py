"""Many tones at once, with phases that keep the peak low."""

from __future__ import annotations

import numpy as np

from .sinefit import Floats


def crest_factor(signal: Floats) -> float:
    """Peak over rms."""
    return float(np.max(np.abs(signal)) / np.sqrt(np.mean(signal**2)))


def low_crest_phases(bins: Floats, amplitudes: Floats, period: int, rounds: int = 60) -> Floats:
    """Phases [rad] of a multi-sine with a low crest factor.

    Starts from the closed form of Schroeder (IEEE Trans. Inf. Theory IT-16, 1970) and betters it by clipping
    in time and keeping the phases in frequency (van der Ouderaa et al., IEEE Trans. Instrum. Meas. 37, 1988).
    `bins` are whole numbers of periods within `period` samples. Deterministic. Neighbouring lines come out below
    a crest of 1.8; tones spread over three decades meet in nearly every phase within their long period, so that
    about 4 is the least to be had (all in phase: 8).
    """
    power = amplitudes**2 / np.sum(amplitudes**2)
    before = np.concatenate([[0.0], np.cumsum(power)[:-1]])
    phases = -2 * np.pi * np.cumsum(before)
    index = np.rint(bins).astype(int)
    size = int(min(period, max(4096, 2 ** int(np.ceil(np.log2(8 * index.max()))))))
    best, best_crest = phases, np.inf
    for step in range(rounds):
        spectrum = np.zeros(size // 2 + 1, dtype=complex)
        spectrum[index] = amplitudes * np.exp(1j * phases)
        signal = np.fft.irfft(spectrum, size)
        crest = crest_factor(signal)
        if crest < best_crest:
            best, best_crest = phases, crest
        top = np.max(np.abs(signal)) * (0.75 + 0.2 * step / rounds)
        phases = np.angle(np.fft.rfft(np.clip(signal, -top, top))[index])
    return np.angle(np.exp(1j * best))


def multisine(frequencies: Floats, amplitudes: Floats, phases: Floats, rate: float, period: int) -> Floats:
    """One period of the sum of cosines; shape (period,), in the unit of `amplitudes` (peak)."""
    spectrum = np.zeros(period // 2 + 1, dtype=complex)
    spectrum[np.rint(np.asarray(frequencies) * period / rate).astype(int)] = amplitudes * np.exp(1j * phases)
    return np.fft.irfft(spectrum, period) * (period / 2)
