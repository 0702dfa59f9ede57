"""Filters that carry their state from block to block, close to the analogue equation they stand for."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from scipy.fft import next_fast_len
from scipy.signal import lfilter

from ...core.signal.sinefit import Complexes, Floats

TAPS = 384
DELAY = 48
"""Samples by which every input of the front end lags, the current monitor included."""


def fir_for(response: Callable[[Floats], Complexes], rate: float) -> Floats:
    """Taps that follow a complex response from 0 to 0.47 of the rate by least squares, DELAY samples late.

    An analogue resonance near or beyond Nyquist has no close recursive twin; a long enough FIR has.
    """
    f = np.linspace(0, 0.47 * rate, 1200)
    wanted = response(np.maximum(f, 1e-6)) * np.exp(-2j * np.pi * f * DELAY / rate)
    # Solve over the symmetric grid with a light ridge, which keeps the unspecified band tame.
    angle = 2 * np.pi * np.outer(f, np.arange(TAPS)) / rate
    basis = np.vstack([np.cos(angle), -np.sin(angle)])
    goal = np.concatenate([wanted.real, wanted.imag])
    gram = basis.T @ basis
    gram[np.diag_indices_from(gram)] += 1e-9 * np.trace(gram) / TAPS
    return np.linalg.solve(gram, basis.T @ goal)


class BlockFir:
    """Overlap-save convolution with fixed block length."""

    def __init__(self, taps: Floats, block: int) -> None:
        self.size = next_fast_len(block + taps.size - 1, real=True)
        self.block = block
        self.spectrum = np.fft.rfft(taps, self.size)
        self.memory = np.zeros(self.size)

    def __call__(self, x: Floats) -> Floats:
        self.memory[: -self.block] = self.memory[self.block :]
        self.memory[-self.block :] = x
        return np.fft.irfft(np.fft.rfft(self.memory) * self.spectrum, self.size)[-self.block :]


class Delay:
    """DELAY samples late, to the bit."""

    def __init__(self) -> None:
        self.memory = np.zeros(DELAY)

    def __call__(self, x: Floats) -> Floats:
        whole = np.concatenate([self.memory, x])
        self.memory = whole[-DELAY:]
        return whole[: x.size]


class Recursive:
    """A transfer function b/a with state."""

    def __init__(self, b: Floats, a: Floats) -> None:
        self.b, self.a = np.asarray(b, float), np.asarray(a, float)
        self.state = np.zeros(max(self.a.size, self.b.size) - 1)

    def __call__(self, x: Floats) -> Floats:
        y, self.state = lfilter(self.b, self.a, x, zi=self.state)
        return y


def low_corner(corner: float, rate: float) -> Recursive | None:
    """First-order high-pass by the bilinear transform (its warping is nil at a corner of a few hertz)."""
    if corner <= 0:
        return None
    k = np.tan(np.pi * corner / rate)
    return Recursive(np.array([1, -1]) / (1 + k), np.array([1, (k - 1) / (k + 1)]))


def resonance(frequency: float, quality: float, rate: float) -> Recursive:
    """Second-order low-pass with unity at low frequency, prewarped at its resonance."""
    k = np.tan(np.pi * min(frequency, 0.45 * rate) / rate)
    down = 1 + k / quality + k * k
    return Recursive(
        np.array([k * k, 2 * k * k, k * k]) / down,
        np.array([1, 2 * (k * k - 1) / down, (1 - k / quality + k * k) / down]),
    )


class Modal:
    """A linear system dx/dt = A·x + b·u, y = C·x + d·u, run in its modes: exact for a drive held over a sample.

    The system may be exchanged between blocks; displacements, velocities and currents go on where they were.
    """

    def __init__(self, a: Floats, b: Floats, c: Floats, d: Floats, rate: float) -> None:
        self.rate = rate
        self.state = np.zeros(0, dtype=complex)
        self.become(a, b, c, d)

    def become(self, a: Floats, b: Floats, c: Floats, d: Floats) -> None:
        """Take on another system of the same order."""
        physical = self.physical() if self.state.size else None
        poles, shapes = np.linalg.eig(a)
        inverse = np.linalg.inv(shapes)
        gains = inverse @ b
        keep = poles.imag >= 0
        # A conjugate pair is run once and counted twice.
        self.shapes = shapes[:, keep] * np.where(poles[keep].imag > 0, 2.0, 1.0)
        self.poles = np.exp(poles[keep] / self.rate)
        self.inputs = gains[keep] * (self.poles - 1) / poles[keep]
        self.outputs = c @ self.shapes
        self.direct = d
        self.state = np.zeros(self.poles.size, dtype=complex) if physical is None else (inverse @ physical)[keep]

    def physical(self) -> Floats:
        """The state x as it stands."""
        return (self.shapes @ self.state).real

    def __call__(self, u: Floats) -> Floats:
        """Outputs for a block of input; shape (outputs, block)."""
        waves = np.empty((self.poles.size, u.size), dtype=complex)
        for i, pole in enumerate(self.poles):
            # The state is the one before each sample's drive acts, so that y[k] knows u up to k-1.
            z = lfilter([0.0, 1.0], [1.0, -pole], self.inputs[i] * u, zi=[self.state[i]])
            waves[i], self.state[i] = z[0], z[1][0]
        return self.outputs.real @ waves.real - self.outputs.imag @ waves.imag + np.outer(self.direct, u)
