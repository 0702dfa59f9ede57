"""Control of a random vibration: Gaussian drive whose spectrum is the target over the measured plant.

The plant's gain per line is the ratio of control to drive spectra, both averaged over the same frames: the chance
of the noise falls out of it, so the drive does not chase it. The probe run's finely resolved response shapes the
drive inside a line; what has changed since then is a correction per line (IEC 60068-2-64, 4.5, equalisation).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ..signal.framing import Framer
from ..signal.sinefit import Floats
from ..signal.spectra import Averager, frame_for, hann
from .plant import LoopResponse
from .points import combined


class NoiseSource:
    """Gaussian noise of a given one-sided density, frame by frame with Hann windows that overlap by three quarters,
    so that its spectrum may change without a step."""

    def __init__(self, frame: int, rate: float, rng: np.random.Generator) -> None:
        self.frame = frame - frame % 4
        self.rate, self.rng = rate, rng
        self.hop = self.frame // 4
        self.window = hann(self.frame) / np.sqrt(1.5)
        self.made = np.zeros(self.frame)
        self.ready = np.zeros(0)
        self.frequency: Floats = np.asarray(np.fft.rfftfreq(self.frame, 1 / rate))

    def __call__(self, n: int, density: Floats) -> Floats:
        """`n` samples; `density` [V²/Hz] on this source's own `frequency` grid."""
        while self.ready.size < n:
            there = int(np.flatnonzero(density)[-1]) + 1 if density.any() else 1
            white = self.rng.standard_normal((2, there))
            y = np.zeros(self.frequency.size, dtype=np.complex128)
            y[:there] = np.sqrt(density[:there] * self.rate * self.frame / 4) * (white[0] + 1j * white[1])
            y[0] = 0
            self.made += self.window * np.fft.irfft(y, self.frame)
            self.ready = np.concatenate([self.ready, self.made[: self.hop]])
            self.made = np.concatenate([self.made[self.hop :], np.zeros(self.hop)])
        out, self.ready = self.ready[:n], self.ready[n:]
        return out


def rolled_off(density: Callable[[Floats], Floats], start: float, stop: float, f: Floats, edge: float) -> Floats:
    """The target with smooth cosine edges of `edge` [Hz] beyond its ends, so that the drive has no brink."""
    made = density(np.clip(f, start, stop))
    low = np.clip((start - f) / edge, 0, 1)
    high = np.clip((f - stop) / edge, 0, 1)
    return np.asarray(made * (0.5 + 0.5 * np.cos(np.pi * low)) * (0.5 + 0.5 * np.cos(np.pi * high)))


def smear(fine: Floats, per_line: int, lines: int) -> Floats:
    """A density on a grid `per_line` times finer, as a Hann-windowed analysis would show it at each line."""
    reach = 4 * per_line
    x = np.arange(-reach, reach + 1) / per_line

    def d(y: Floats) -> Floats:
        return np.sinc(y)

    kernel = (0.5 * d(x) + 0.25 * d(x - 1) + 0.25 * d(x + 1)) ** 2
    kernel /= kernel.sum()
    around = np.lib.stride_tricks.sliding_window_view(np.pad(fine, reach), kernel.size)
    return np.asarray(around[::per_line][:lines] @ kernel)


@dataclass(frozen=True)
class RandomState:
    """What faces show of a random run."""

    frequency: Floats
    control: Floats
    """(m/s²)²/Hz, averaged"""
    drive: Floats
    """V²/Hz"""
    dof: float
    frames: int


class RandomLoop:
    """State of the control. Rows of a block: control points first, then any others; the drive is the last."""

    def __init__(
        self, rate: float, spacing: float, target: Callable[[Floats], Floats], band: tuple[float, float],
        plant: LoopResponse, controls: int, *, combine: str = "average", clipping: float = 3.5,
        dof: float = 120.0, linear: bool = False, seed: int = 1,
    ) -> None:  # fmt: skip
        """`target` (m/s²)²/Hz over Hz; `spacing` [Hz] of the analysis lines."""
        self.rate, self.controls, self.combine, self.clipping = rate, controls, combine, clipping
        self.frame = frame_for(rate, spacing)
        self.spacing = rate / self.frame
        self.per_line = max(1, round(self.spacing / 1.0))
        self.source = NoiseSource(self.frame * self.per_line, rate, np.random.default_rng(seed))
        self.lines = self.frame // 2 + 1
        self.frequency = np.arange(self.lines) * self.spacing
        edge = max(3 * self.spacing, 0.04 * band[0])
        f = self.source.frequency
        self.fine_target = rolled_off(target, *band, f, edge)
        model = np.array([_power_at(plant, i, f) for i in range(controls)])
        self.fine_plant = combined(model, combine)
        self.correction = np.ones(self.lines)
        self.inside = (self.frequency >= band[0] - 2 * edge) & (self.frequency <= band[1] + 2 * edge)
        self.known = min(int(np.flatnonzero(self.inside)[-1]) + 8, self.lines)
        """Lines up to which the drive holds anything"""
        # Frames in an exponential average of the wished degrees of freedom, and slower for the plant.
        forget = None if linear else min(1.0, 4.0 / (dof + 2))
        self.framer = Framer(controls + 1, self.frame)
        self.forget = forget
        self.shown = self._average(forget)
        self.slow = self._average(0.03)
        self.fast_frames = 0
        self.level = 0.0
        """amplitude factor, 0 to 1"""
        self._shape()

    def _average(self, forget: float | None) -> Averager:
        """Of control points and drive, of the lines that the drive reaches, auto spectra only."""
        rows = self.controls + 1
        return Averager(rows, self.rate, self.frame, 0.5, rows - 1, forget, self.known, cross=False)

    def _shape(self) -> None:
        """The drive's density at full level from target, plant and correction, where there is any."""
        n, fine = self.known, slice(self.known * self.per_line)
        by = np.interp(self.source.frequency[fine], self.frequency, np.log(self.correction))
        made = self.fine_target[fine] / np.maximum(self.fine_plant[fine], 1e-12) * np.exp(by)
        self.density = np.zeros(self.source.frequency.size)
        self.density[fine] = made
        self.expected, self.expected_drive = np.zeros(self.lines), np.zeros(self.lines)
        self.expected[:n] = smear(made * self.fine_plant[fine], self.per_line, n)
        self.expected_drive[:n] = smear(made, self.per_line, n)
        self.sigma = float(np.sqrt(np.sum(made) * (self.source.frequency[1] - self.source.frequency[0])))

    def play(self, n: int, level: float) -> Floats:
        """One block; the amplitude goes straight from the last level to this one."""
        x = np.clip(self.source(n, self.density) / self.sigma, -self.clipping, self.clipping) * self.sigma
        envelope = self.level + (level - self.level) * np.arange(1, n + 1) / n
        self.level = level
        return x * envelope

    def observe(self, rows: Floats, learn: bool = True) -> bool:
        """One block (channels + 1, n). True when the averages have a new frame."""
        made = False
        for y in self.framer.feed(np.vstack([rows[: self.controls], rows[-1:]])):
            self.shown.add(y)
            if learn:
                self.slow.add(y)
                self.fast_frames += 1
                made = True
        if made and self.fast_frames >= 4:
            self._correct()
        return made

    def _correct(self) -> None:
        """Plant as it is over plant as it was probed, per line, both seen through the same window."""
        control = combined(self.slow.auto[: self.controls], self.combine)
        drive = self.slow.auto[-1]
        live = np.flatnonzero(self.inside[: self.known] & (drive > 1e-6 * drive.max()))
        seen = control[live] / np.maximum(drive[live], 1e-300)
        model = self.expected[live] / np.maximum(self.expected_drive[live], 1e-300)
        # The correction that the expectation already holds cancels in its ratio only where it is flat inside a line.
        ratio = np.clip(seen / model, 1e-3, 1e3)
        wanted = np.ones(self.lines)
        wanted[live] = 1 / ratio
        self.correction = np.clip(wanted, 1e-2, 1e2)
        self._shape()

    def restart(self) -> None:
        """Begin the shown average anew, at a new level; nothing of the old one is in its first frame."""
        self.framer.clear()
        self.shown = self._average(self.forget)

    def state(self) -> RandomState:
        held = self.shown.spectra()
        return RandomState(
            held.frequency, combined(held.auto[: self.controls], self.combine), held.auto[-1], held.dof, held.frames
        )


def _power_at(plant: LoopResponse, channel: int, f: Floats) -> Floats:
    """|H|² on any grid."""
    lines = plant.frequency[1:]
    size = np.log(np.maximum(np.abs(plant.smoothed[channel][1:]), 1e-9))
    return np.exp(2 * np.interp(np.log(np.maximum(f, lines[0])), np.log(lines), size))
