"""The probed plant played along with the real one: what each channel should show for the drive as it is played."""

from __future__ import annotations

import numpy as np

from ..signal.sinefit import Floats
from .plant import LoopResponse


class Twin:
    """What the probed plant would show for the drive that is played, at a reduced rate: the measure against which
    the real plant's slow changes are read, its transients included."""

    def __init__(self, plant: LoopResponse, channels: int, rate: float, block: int, highest: float) -> None:
        """`highest` [Hz] of the sine."""
        from scipy.fft import next_fast_len

        self.thin = max((k for k in range(1, block + 1) if block % k == 0 and rate / k >= 3 * highest), default=1)
        slow = rate / self.thin
        lines = plant.frequency
        count = int(round(slow / (lines[1] - lines[0]) / 2)) * 2
        f = np.arange(count // 2 + 1) * (lines[1] - lines[0])
        h = np.zeros((channels, f.size), dtype=complex)
        held = min(f.size, lines.size)
        for i in range(channels):
            h[i, :held] = plant.smoothed[i, :held]
            towards_zero(h[i], f, plant, i)
        edge = np.clip((f / highest - 1.1) / 0.35, 0, 1)
        self.edge = 0.5 + 0.5 * np.cos(np.pi * edge)
        self.frequency, self.response, self.count = f, h, count
        # What the band edge smears to before the drive is let come late instead: by 1.6 over its width of 0.35·highest
        # at least, however short a block is.
        self.late = max(min(32, block // self.thin), int(np.ceil(1.6 * slow / (0.35 * highest))))
        self.block = block // self.thin
        self.size = next_fast_len(count + self.block, real=True)
        self.memory = np.zeros(self.size)
        self.become(np.zeros(channels))

    def become(self, shifts: Floats) -> None:
        """Play each channel with the probed response moved along the frequency axis by its share of `shifts`."""
        line = self.frequency[1]
        h = np.empty_like(self.response)
        for i, by in enumerate(shifts):
            x = np.minimum(self.frequency / (1 + by) / line, self.frequency.size - 1.001)
            k = x.astype(int)
            h[i] = self.response[i, k] + (x - k) * (self.response[i, k + 1] - self.response[i, k])
        taps = np.roll(np.fft.irfft(h * self.edge, self.count), self.late, axis=1)
        taps[:, -self.count // 4 :] = 0
        self.spectrum = np.fft.rfft(taps, self.size)

    def __call__(self, drive: Floats) -> Floats:
        """(channels, block/thin) for one block of drive."""
        self.memory[: -self.block] = self.memory[self.block :]
        self.memory[-self.block :] = drive[:: self.thin]
        return np.fft.irfft(np.fft.rfft(self.memory) * self.spectrum, self.size)[:, -self.block :]


def towards_zero(h: np.ndarray, f: Floats, plant: LoopResponse, channel: int) -> None:
    """Below the lowest line that can be believed an acceleration goes with f² and turns towards half a turn."""
    good = np.flatnonzero(plant.coherence[channel] > 0.5)
    if good.size == 0 or good[0] >= f.size:
        return
    first = int(good[0])
    turn = float(np.angle(h[first]))
    end = np.pi if turn > 0 else -np.pi
    share = f[:first] / f[first]
    h[:first] = np.abs(h[first]) * share**2 * np.exp(1j * (end + (turn - end) * share))
