"""Records cut into overlapping frames, and the frames transformed: mean off, window, real transform."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np

from .sinefit import Complexes, Floats

WINDOWS: dict[str, tuple[float, ...]] = {
    "rectangular": (1.0,),
    "hann": (0.5, 0.5),
    "hamming": (0.54, 0.46),
    "blackman": (0.42, 0.5, 0.08),
    "flat top": (0.21557895, 0.41663158, 0.277263158, 0.083578947, 0.006947368),
}
"""Cosine-sum windows by their coefficients (ISO 18431-2; Harris, Proc. IEEE 66, 1978)"""

GROUP, CACHED = 8, 1 << 16
"""Frames of one channel, and samples in all of them, that are transformed together at most: they stay in the
processor's cache"""

PIECE = 1 << 18
"""Samples of a long record that are best read at once: 32 MB of 16 channels, and few frames that two pieces share"""


def window_of(name: str, n: int) -> Floats:
    """A periodic window of `n` samples. Raises ValueError for a name that is not one of `WINDOWS`."""
    if name not in WINDOWS:
        raise ValueError(f"'{name}' is not known; use {', '.join(WINDOWS)}")
    at = 2 * np.pi * np.arange(n) / n
    return np.asarray(sum((-1) ** k * a * np.cos(k * at) for k, a in enumerate(WINDOWS[name])), dtype=np.float64)


class Transform:
    """Real transforms of up to `rows` rows of `n` samples, planned once for each number of rows.

    For what is transformed over and over in one shape: FFTW then takes half the time of numpy, which plans anew at each
    call. A single transform is not worth the import.
    """

    def __init__(self, rows: int, n: int) -> None:
        import pyfftw

        lines = n // 2 + 1
        self._given = pyfftw.empty_aligned((rows, n), dtype="float64")
        # Rows begin on whole cache lines.
        self._made = pyfftw.empty_aligned((rows, -(-lines // 4) * 4), dtype="complex128")[:, :lines]
        self._plans: dict[int, Callable[[], object]] = {}

    def _plan(self, rows: int) -> Callable[[], object]:
        import pyfftw

        # Estimated, not measured: measuring takes up to seconds and gains a twentieth.
        flags = ("FFTW_ESTIMATE", "FFTW_DESTROY_INPUT")
        return pyfftw.FFTW(self._given[:rows], self._made[:rows], axes=(1,), flags=flags).execute  # type: ignore[no-any-return]

    def __call__(self, x: Floats, window: Floats) -> Complexes:
        """Of x (rows, n) under a window (n,): (rows, n//2 + 1), overwritten by the next call."""
        rows = len(x)
        if rows not in self._plans:
            self._plans[rows] = self._plan(rows)
        np.multiply(x, window, out=self._given[:rows])
        self._plans[rows]()
        return self._made[:rows]


class Framer:
    """Cuts blocks of any length into overlapping frames and transforms them.

    The mean is taken off where it is cheap: in the lines that the window spreads it over. The transforms that it gives
    are its own, and overwritten by the next ones.
    """

    def __init__(self, channels: int, frame: int, overlap: float = 0.5, window: str = "hann") -> None:
        self.frame = frame
        self.hop = max(int(round(frame * (1 - overlap))), 1)
        self.window = window_of(window, frame)
        self.held = np.zeros((channels, 2 * frame))
        self.count = 0
        """Samples that wait for a whole frame"""
        # A cosine-sum window touches few lines: the mean, times its transform there, comes off those alone.
        spread = np.fft.rfft(self.window)
        self.touched = int(np.flatnonzero(np.abs(spread) > 1e-12 * np.abs(spread[0]))[-1]) + 1
        self.spread = spread[: self.touched] / frame
        self.ones = np.ones(frame)
        self.group = max(min(GROUP, CACHED // frame), 1)
        """Frames of one channel that are best transformed together"""
        self._transform = Transform(max(channels, self.group), frame)

    def clear(self) -> None:
        """Forget what waits for a whole frame."""
        self.count = 0

    def runs(self, x: Floats) -> Iterator[Floats]:
        """What a block (channels, n) completes, as runs (channels, m) that begin with a frame and end with one: first
        the frames that began in earlier blocks, then those within this one. The rest is kept."""
        at, n = 0, x.shape[1]
        if self.count:
            last = (self.count - 1) // self.hop * self.hop
            taken = min(last + self.frame - self.count, n)
            total = self.count + taken
            self.held[:, self.count : total] = x[:, :taken]
            whole = self._whole(total)
            if whole:
                yield self.held[:, : (whole - 1) * self.hop + self.frame]
            start = whole * self.hop
            if start < self.count:
                self.held[:, : total - start] = self.held[:, start:total].copy()
                self.count = total - start
                return
            at = start - self.count
        whole = self._whole(n - at)
        if whole:
            yield x[:, at : at + (whole - 1) * self.hop + self.frame]
            at += whole * self.hop
        self.count = n - at
        self.held[:, : self.count] = x[:, at:]

    def _whole(self, n: int) -> int:
        """Frames in `n` samples."""
        return (n - self.frame) // self.hop + 1 if n >= self.frame else 0

    def frames(self, run: Floats) -> Floats:
        """The frames (channels, frames, frame) of a run, without a copy."""
        return np.lib.stride_tricks.sliding_window_view(run, self.frame, axis=1)[:, :: self.hop]

    def sums(self, row: Floats) -> Floats:
        """Of the frames in one channel's run (m,): (frames,). Each sample is added once where frames overlap evenly."""
        parts, left = divmod(self.frame, self.hop)
        if left:
            return self.frames(row[None])[0] @ self.ones
        return np.convolve(row.reshape(-1, self.hop) @ self.ones[: self.hop], np.ones(parts), "valid")

    def transform(self, x: Floats, sums: Floats | None = None) -> Complexes:
        """Of up to as many frames as there are channels, or `group` if that is more, (frames, frame): (frames, lines).
        `sums` (frames,) of their samples, if known."""
        sums = x @ self.ones if sums is None else sums
        made = self._transform(x, self.window)
        made[:, : self.touched] -= np.outer(sums, self.spread)
        return made

    def feed(self, x: Floats) -> Iterator[Complexes]:
        """Transforms (channels, lines) of the frames that a block (channels, n) completes."""
        for run in self.runs(x):
            for at in range(0, run.shape[1] - self.frame + 1, self.hop):
                yield self.transform(run[:, at : at + self.frame])
