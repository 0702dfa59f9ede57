"""Whether a sensor's contact comes and goes, told within a sine's own periods.

A plug or cable that opens for a few milliseconds at a time takes pieces out of a sine: its fundamental falls, and what
is left has no longer the shape of a sine. A sensor that lost sensitivity keeps the shape; a structure that rattles
loses the shape without falling, and in more than one channel. A tracking filter sees only the fall, and a loop that
rests on it drives the table up.
"""

from __future__ import annotations

import numpy as np

from ..rolling import Rolling
from ..signal.sinefit import Floats

PERIODS = 1.5
"""of the sine that a window holds at least"""
SHAPELESS = 0.12
"""share of a window's energy that no longer goes with the sine, gained since before"""
FALLEN = 0.1
"""ln by which the sine's own part must have fallen against the others'"""
OTHERS = 1 / 3
"""share of that which the others may lose of their shape: else it is the structure that rattles"""
PURE = 0.15
"""share without shape, above which a channel was no sine before either, and tells nothing"""
STEADY = 1.25
"""times the drive's energy in one block over another's, and now over before: while it changes, modes ring on by
themselves"""
BEFORE = 8
"""windows over which it is known how it was"""


class ContactWatch:
    """Fed with each block's channels and what the plant's twin gives for them, both in the driven band."""

    def __init__(self, count: int, span: float) -> None:
        """`count` of the channels; `span` s of a block."""
        self.count, self.span = count, span
        self.last = np.zeros((count + 1, 2))
        self.sums = Rolling(2 * (BEFORE + 2) * 64, 7, count)
        """(7, channels) a block: products of what is shown (z), of the drive (d) and of its slope (s), and the twin's
        energy"""
        self.known = Rolling(self.sums.most, 2, count)
        """(2, channels) a block: ln of the sine's part over the twin's, and the share without shape"""

    def feed(self, z: Floats, y: Floats, drive: Floats, frequency: float) -> tuple[int, float] | None:
        """One block: `z` of each channel (channels, n), `y` what the twin gives for them, the drive (n,), at a sine's
        frequency [Hz]. The channel that lost pieces, and the factor by which its sine fell; None where none did."""
        whole = np.concatenate([self.last, np.vstack([z, drive])], axis=1)
        self.last = whole[:, -2:]
        # Drive and slope together take a sine out, whatever its phase. The twin would not do: its modes ring elsewhere.
        z, d, s = whole[:-1, 1:-1], whole[-1, 1:-1], (whole[-1, 2:] - whole[-1, :-2]) / 2
        one = np.ones(self.count)
        rows = [(z * z).sum(axis=1), z @ d, z @ s, d @ d * one, d @ s * one, s @ s * one, (y * y).sum(axis=1)]
        self.sums.add(np.array(rows))
        n = max(2, int(np.ceil(PERIODS / frequency / self.span)))
        if len(self.sums) < n:
            return None
        zz, zd, zs, dd, ds, ss, yy = self.sums.last(n).sum(axis=0)
        det = np.maximum(dd * ss - ds * ds, 1e-30)
        a, b = (zd * ss - zs * ds) / det, (zs * dd - zd * ds) / det
        sine = np.maximum(a * zd + b * zs, 1e-30)
        now = np.array([0.5 * np.log(sine / np.maximum(yy, 1e-30)), 1 - sine / np.maximum(zz, 1e-30)])
        self.known.add(now)
        if len(self.known) < n + BEFORE:
            return None
        drives = self.sums.last(n + BEFORE)[:, 3, 0]
        newest, older = drives[-n - 2 :], float(np.median(drives[:BEFORE]))
        mean = float(np.mean(drives[-n:]))
        if newest.max() > STEADY * newest.min() or max(mean, older) > STEADY * min(mean, older):
            return None
        before = np.median(self.known.last(n + BEFORE)[:-n], axis=0)
        return self._lost(now - before, before[1] < PURE)

    def _lost(self, change: Floats, pure: np.ndarray) -> tuple[int, float] | None:
        fallen, shapeless = change
        i = int(np.argmax(np.where(pure, shapeless, -1.0)))
        others = np.flatnonzero(pure & (np.arange(self.count) != i))
        if not pure[i] or others.size == 0 or shapeless[i] < SHAPELESS:
            return None
        by = float(fallen[i] - np.median(fallen[others]))
        if by > -FALLEN or np.median(shapeless[others]) > OTHERS * shapeless[i]:
            return None
        return i, float(np.exp(by))
