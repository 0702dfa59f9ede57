"""The ramp that brings the drive to zero whatever the method does."""

from __future__ import annotations

import numpy as np

from ..core.signal.sinefit import Floats


class Ramp:
    """Passes the drive through, or fades it to zero over a stated time and keeps it there."""

    def __init__(self, rate: float) -> None:
        self.rate = rate
        self.left: int | None = None
        self.span = 1
        self.last = np.zeros(1)

    @property
    def begun(self) -> bool:
        return self.left is not None

    @property
    def zero(self) -> bool:
        return self.left == 0

    def begin(self, seconds: float) -> bool:
        """Start to fade; a faster fade takes over from a slower one. False if nothing changed."""
        span = max(int(seconds * self.rate), 1)
        if self.left is not None:
            if span >= self.left:
                return False
            level = self.left / self.span
            self.left, self.span = int(span * level), span
            return True
        self.left = self.span = span
        return True

    def __call__(self, drive: Floats | None, block: int) -> Floats:
        """The block that may leave. None: no block came, so the last one is played backwards, which joins on."""
        if drive is None:
            drive = np.resize(self.last[::-1], block)
        self.last = np.array(drive)
        if self.left is None:
            return drive
        envelope = np.clip((self.left - np.arange(1, block + 1)) / self.span, 0, 1)
        self.left = max(self.left - block, 0)
        return drive * envelope
