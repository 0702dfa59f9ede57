"""Averaged spectra in one pass with constant memory: auto and cross, for many channels at once.

Welch's method (IEEE Trans. Audio Electroacoust. AU-15, 1967); response functions and coherence after
Bendat & Piersol, Random Data, chapter 6.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from .framing import Framer
from .sinefit import Complexes, Floats


def lines(n: int, rate: float) -> Floats:
    """Hz of the lines of a real transform of `n` samples."""
    return np.asarray(np.arange(n // 2 + 1) * (rate / n), dtype=np.float64)


def hann(n: int) -> Floats:
    """Periodic Hann window."""
    return 0.5 - 0.5 * np.cos(2 * np.pi * np.arange(n) / n)


def noise_bandwidth(window: Floats) -> float:
    """Equivalent noise bandwidth in lines: n·Σw²/(Σw)²; 1 for a rectangle, 1.5 for Hann, 3.77 for a flat top."""
    return float(window.size * np.sum(window**2) / np.sum(window) ** 2)


def degrees_of_freedom(window: Floats, hop: int, frames: int) -> float:
    """Effective degrees of freedom of an average of overlapping frames (Welch 1967, eq. 16 ff.)."""
    if frames < 1:
        return 0.0
    power = np.sum(window**2)
    total = 1.0
    for k in range(1, min(frames, int(np.ceil(window.size / hop)))):
        rho = (np.sum(window[k * hop :] * window[: window.size - k * hop]) / power) ** 2
        total += 2 * (frames - k) / frames * rho
    return 2 * frames / total


@dataclass(frozen=True)
class Spectra:
    """What an average gave. Densities in unit²/Hz; cross spectra conj(reference)·channel."""

    frequency: Floats
    auto: Floats
    """(channels, lines)"""
    cross: Complexes
    """(channels, lines), against the reference channel"""
    reference: int
    frames: int
    dof: float

    def response(self) -> Complexes:
        """H1 of every channel re the reference channel, which must be clean."""
        return self.cross / np.maximum(self.auto[self.reference], 1e-300)

    def coherence(self) -> Floats:
        held = self.auto * self.auto[self.reference]
        return np.abs(self.cross) ** 2 / np.maximum(held, 1e-300)


class Averager:
    """Welch average fed block by block, or by transforms that a `Framer` made for several."""

    def __init__(
        self, channels: int, rate: float, frame: int, overlap: float = 0.5, reference: int = 0,
        forget: float | None = None, count: int | None = None, cross: bool = True, window: str = "hann",
    ) -> None:  # fmt: skip
        """`frame` samples; `forget`: weight of the newest frame in an exponential average, None for a linear one;
        `count`: lines from zero that are averaged, all when not given; `cross`: whether cross spectra are; `window`:
        one of `framing.WINDOWS`."""
        self.rate, self.frame, self.reference = rate, frame, reference
        self.framer = Framer(channels, frame, overlap, window)
        self.hop, self.window = self.framer.hop, self.framer.window
        self.forget = forget
        self.count = frame // 2 + 1 if count is None else count
        self.crossed = cross
        # A linear average keeps sums and divides when asked; an exponential one keeps the average. Squares of real and
        # imaginary parts are kept side by side, as they lie in memory, and added when asked.
        self._squares = np.zeros((channels, 2 * self.count))
        self._cross = np.zeros((channels, self.count), dtype=complex)
        self._now = np.empty(2 * self.count)
        self._product = self._now.view(complex)
        self._conjugates = np.empty((self.framer.group, self.count), dtype=complex)
        self.frames = 0
        self.scale = 2 / (rate * np.sum(self.window**2))

    @property
    def auto(self) -> Floats:
        """(channels, lines) mean of |Y|²."""
        whole = self._squares[:, 0::2] + self._squares[:, 1::2]
        return np.asarray(whole / max(self.frames, 1) if self.forget is None else whole)

    @property
    def cross(self) -> Complexes:
        """(channels, lines) mean of conj(reference)·Y."""
        made = self._cross / (max(self.frames, 1) if self.forget is None else 1)
        if self.crossed:
            made[self.reference] = self.auto[self.reference]
        return np.asarray(made)

    def feed(self, x: Floats) -> int:
        """One block (channels, n); how many frames it completed."""
        before = self.frames
        if self.forget is not None:
            for y in self.framer.feed(x):
                self.add(y)
        else:
            count, frame = self.framer.group, self.framer.frame
            for run in self.framer.runs(x):
                for at in range(0, run.shape[1] - frame + 1, count * self.hop):
                    self._add_group(run[:, at : at + (count - 1) * self.hop + frame])
        return self.frames - before

    def add(self, y: Complexes) -> None:
        """One frame's transform (channels, lines)."""
        y = y[:, : self.count]
        self.frames += 1
        if self.forget is not None:
            self._forget(y, max(self.forget, 1 / self.frames))
            return
        conjugates = np.conjugate(y[self.reference], out=self._conjugates[0])[None]
        for i in range(len(y)):
            self._sum(i, y[i : i + 1], conjugates)

    def _add_group(self, run: Floats) -> None:
        """A run (channels, m) of a group of frames, a channel at a time, the reference first: what one channel needs
        stays in the processor's cache."""
        cut = self.framer.frames(run)
        conjugates = self._conjugates[: cut.shape[1]]
        for i in sorted(range(len(run)), key=lambda i: i != self.reference):
            y = self.framer.transform(cut[i], self.framer.sums(run[i]))[:, : self.count]
            if i == self.reference:
                np.conjugate(y, out=conjugates)
            self._sum(i, y, conjugates)
        self.frames += cut.shape[1]

    def _sum(self, i: int, y: Complexes, conjugates: Complexes) -> None:
        """Transforms (frames, lines) of channel i into its sums."""
        squares, cross, now, product = self._squares[i], self._cross[i], self._now, self._product
        for line, conjugate in zip(y, conjugates, strict=True):
            np.square(line.view(np.float64), out=now)
            np.add(squares, now, out=squares)
            if self.crossed and i != self.reference:
                np.multiply(conjugate, line, out=product)
                np.add(cross, product, out=cross)

    def _forget(self, y: Complexes, weight: float) -> None:
        self._squares *= 1 - weight
        self._squares += weight * np.ascontiguousarray(y).view(np.float64) ** 2
        if self.crossed:
            self._cross *= 1 - weight
            self._cross += (weight * np.conj(y[self.reference])) * y

    @property
    def dof(self) -> float:
        """Effective degrees of freedom of the average as it stands, overlap counted."""
        if self.forget is None:
            return degrees_of_freedom(self.window, self.hop, self.frames)
        alike = min((2 - self.forget) / self.forget, float(self.frames))
        return degrees_of_freedom(self.window, self.hop, max(int(alike), 1))

    def spectra(self) -> Spectra:
        """The average as it stands, as densities."""
        cross: Complexes = np.asarray(self.cross * self.scale, dtype=np.complex128)
        f = lines(self.frame, self.rate)[: self.count]
        return Spectra(f, self.auto * self.scale, cross, self.reference, self.frames, self.dof)


SCALES = ("density", "rms", "peak", "energy")


def scaled(density: Floats, rate: float, window: Floats, scale: str, duration: float = 1.0) -> Floats:
    """A one-sided density [unit²/Hz] in another scale: `rms` or `peak` of a line [unit], right for a sine in the line's
    middle, whatever the window; `energy` density [unit²·s/Hz] of a transient that `duration` [s] was averaged over."""
    if scale == "density":
        return density
    if scale == "energy":
        return density * duration
    if scale not in SCALES:
        raise ValueError(f"'{scale}' is not known; use {', '.join(SCALES)}")
    rms = np.sqrt(density * noise_bandwidth(window) * rate / window.size)
    return np.asarray(rms * (np.sqrt(2) if scale == "peak" else 1.0))


def averaged(pieces: Iterable[Floats], channels: int, rate: float, frame: int, overlap: float = 0.5,
             reference: int = 0, window: str = "hann") -> Spectra:  # fmt: skip
    """Spectra of a whole record given in pieces (channels, n)."""
    made = Averager(channels, rate, frame, overlap, reference, window=window)
    for piece in pieces:
        made.feed(piece)
    return made.spectra()


def averaged_together(parts: Sequence[Spectra]) -> Spectra:
    """Averages over several stretches as one: each counts by its frames, and their degrees of freedom add up."""
    frames = sum(p.frames for p in parts)
    share = [p.frames / max(frames, 1) for p in parts]
    auto = sum(w * p.auto for w, p in zip(share, parts, strict=True))
    cross = sum(w * p.cross for w, p in zip(share, parts, strict=True))
    first = parts[0]
    return Spectra(first.frequency, np.asarray(auto), np.asarray(cross), first.reference, frames,
                   float(sum(p.dof for p in parts)))  # fmt: skip


def frame_for(rate: float, spacing: float) -> int:
    """Samples of a frame whose lines are `spacing` [Hz] apart, even."""
    return max(2 * int(round(rate / spacing / 2)), 16)
