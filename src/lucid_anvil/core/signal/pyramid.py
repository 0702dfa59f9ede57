"""Least and greatest values of a long record in ever coarser bins, made in one pass: a picture of any stretch costs as
many values as it has columns."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .sinefit import Floats

BASE, FACTOR = 256, 16
PIECE = 1 << 20
"""Samples that are read at a time"""
Load = Callable[[int, int], Floats]


def envelope(x: Floats, columns: int) -> tuple[Floats, Floats]:
    """Least and greatest of each column of samples, as sample numbers and values; the samples when they are few."""
    if x.size <= 2 * columns:
        return np.arange(x.size, dtype=np.float64), x
    step = x.size // columns
    columns = -(-x.size // step)
    edges = np.arange(0, x.size, step)
    y = np.empty(2 * columns)
    y[0::2], y[1::2] = np.minimum.reduceat(x, edges), np.maximum.reduceat(x, edges)
    return np.repeat(edges, 2).astype(np.float64), y


@dataclass(frozen=True)
class Pyramid:
    """`levels[k]` (2, bins) holds least and greatest of bins of BASE·FACTOR^k samples."""

    length: int
    levels: tuple[NDArray[np.float32], ...]

    def reach(self) -> tuple[float, float]:
        """Least and greatest of all."""
        top = self.levels[-1]
        return float(top[0].min()), float(top[1].max())

    def picture(self, start: int, stop: int, columns: int, load: Load) -> tuple[Floats, Floats]:
        """What a screen of so many columns shows of the samples start..stop-1: sample numbers and values. Single
        samples are read with `load` where a column holds fewer than a bin."""
        start, stop = max(start, 0), min(stop, self.length)
        if stop - start < 2:
            return np.zeros(0), np.zeros(0)
        share = (stop - start) / columns
        if share < BASE or not self.levels:
            at, y = envelope(load(start, stop), columns)
            return at + start, y
        k = min(int(np.log(share / BASE) / np.log(FACTOR)), len(self.levels) - 1)
        size = BASE * FACTOR**k
        a, b = start // size, -(-stop // size)
        low, high = self.levels[k][:, a:b]
        columns = min(columns, low.size)
        edges = np.arange(columns) * low.size // columns
        y = np.empty(2 * edges.size)
        y[0::2], y[1::2] = np.minimum.reduceat(low, edges), np.maximum.reduceat(high, edges)
        return np.repeat((a + edges) * size, 2).astype(np.float64), y


def build(load: Load, length: int) -> Pyramid:
    """The pyramid of a record of `length` samples, read once."""
    count = -(-length // BASE)
    first = np.empty((2, count), dtype=np.float32)
    for a in range(0, length, PIECE):
        x = load(a, min(a + PIECE, length))
        edges = np.arange(0, x.size, BASE)
        into = slice(a // BASE, a // BASE + edges.size)
        first[0, into], first[1, into] = np.minimum.reduceat(x, edges), np.maximum.reduceat(x, edges)
    levels = [first]
    while levels[-1].shape[1] > 4 * FACTOR:
        last = levels[-1]
        edges = np.arange(0, last.shape[1], FACTOR)
        levels.append(np.stack([np.minimum.reduceat(last[0], edges), np.maximum.reduceat(last[1], edges)]))
    return Pyramid(length, tuple(levels))
