"""Averaged spectra in one pass with constant memory: auto and cross, for many channels at once.

Welch's method (IEEE Trans. Audio Electroacoust. AU-15, 1967); response functions and coherence after
Bendat & Piersol, Random Data, chapter 6.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

import numpy as np

from .sinefit import Complexes, Floats


def lines(n: int, rate: float) -> Floats:
    """Hz of the lines of a real transform of `n` samples."""
    return np.asarray(np.arange(n // 2 + 1) * (rate / n), dtype=np.float64)


def hann(n: int) -> Floats:
    """Periodic Hann window."""
    return 0.5 - 0.5 * np.cos(2 * np.pi * np.arange(n) / n)


def noise_bandwidth(window: Floats) -> float:
    """Equivalent noise bandwidth in lines: n·Σw²/(Σw)²; 1.5 for Hann."""
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


class Framer:
    """Cuts blocks into overlapping frames and transforms them: mean off, Hann window, real transform."""

    def __init__(self, channels: int, frame: int, overlap: float = 0.5) -> None:
        self.frame = frame
        self.hop = max(int(round(frame * (1 - overlap))), 1)
        self.window = hann(frame)
        self.held = np.zeros((channels, 2 * frame))
        self.count = 0

    def clear(self) -> None:
        """Forget what waits for a whole frame."""
        self.count = 0

    def feed(self, x: Floats) -> Iterator[Complexes]:
        """Transforms (channels, lines) of the frames that a block (channels, n) completes."""
        at = 0
        while at < x.shape[1]:
            n = min(self.held.shape[1] - self.count, x.shape[1] - at)
            self.held[:, self.count : self.count + n] = x[:, at : at + n]
            self.count, at = self.count + n, at + n
            start = 0
            while self.count - start >= self.frame:
                piece = self.held[:, start : start + self.frame]
                yield np.fft.rfft((piece - piece.mean(axis=1, keepdims=True)) * self.window, axis=1)
                start += self.hop
            if start:
                rest = self.count - start
                self.held[:, :rest] = self.held[:, start : self.count].copy()
                self.count = rest


class Averager:
    """Welch average fed block by block, or by transforms that a `Framer` made for several."""

    def __init__(
        self, channels: int, rate: float, frame: int, overlap: float = 0.5, reference: int = 0,
        forget: float | None = None, count: int | None = None, cross: bool = True,
    ) -> None:  # fmt: skip
        """`frame` samples; `forget`: weight of the newest frame in an exponential average, None for a linear one;
        `count`: lines from zero that are averaged, all when not given; `cross`: whether cross spectra are."""
        self.rate, self.frame, self.reference = rate, frame, reference
        self.framer = Framer(channels, frame, overlap)
        self.hop, self.window = self.framer.hop, self.framer.window
        self.forget = forget
        self.count = frame // 2 + 1 if count is None else count
        self.crossed = cross
        self.auto = np.zeros((channels, self.count))
        self.cross = np.zeros((channels, self.count), dtype=complex)
        self.frames = 0
        self.scale = 2 / (rate * np.sum(self.window**2))

    def feed(self, x: Floats) -> int:
        """One block (channels, n); how many frames it completed."""
        made = 0
        for y in self.framer.feed(x):
            self.add(y)
            made += 1
        return made

    def add(self, y: Complexes) -> None:
        """One frame's transform (channels, lines)."""
        y = y[:, : self.count]
        self.frames += 1
        weight = 1 / self.frames if self.forget is None else max(self.forget, 1 / self.frames)
        self.auto *= 1 - weight
        self.auto += weight * (y.real**2 + y.imag**2)
        if self.crossed:
            self.cross *= 1 - weight
            self.cross += (weight * np.conj(y[self.reference])) * y

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


def averaged(pieces: Iterable[Floats], channels: int, rate: float, frame: int, overlap: float = 0.5,
             reference: int = 0) -> Spectra:  # fmt: skip
    """Spectra of a whole record given in pieces (channels, n)."""
    made = Averager(channels, rate, frame, overlap, reference)
    for piece in pieces:
        made.feed(piece)
    return made.spectra()


def frame_for(rate: float, spacing: float) -> int:
    """Samples of a frame whose lines are `spacing` [Hz] apart, even."""
    return max(2 * int(round(rate / spacing / 2)), 16)
