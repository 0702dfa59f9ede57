"""By how much the article's modes have moved since the probe run, learned while a sine is driven.

Two twins of the probed plant, its response moved a little up and a little down the frequency axis, say how what is
seen would change if the modes moved. From that a Kalman filter (Kalman, J. Basic Eng. 82, 1960) follows the move,
beside a slow change of gain that heat explains. A response's ratio to the control tells most: it knows nothing of the
amplifier.
"""

from __future__ import annotations

import numpy as np

from ..signal.sinefit import Floats

STEP = 0.004
"""share by which the side twins are moved"""
MOST = 0.12
"""share of a move that is followed at all"""
NOISE = 0.04
"""ln, of what one block shows, model errors included"""
WANDER = (0.012, 0.03, 0.01)
"""share of the modes' frequency, ln of the control's gain and of a response's over it, gone in a second at most"""
UNKNOWN = (0.02, 0.3, 0.1)
"""the same, known at worst"""
QUICKEST = 0.05
"""share a second that is believed at most: near a sharp mode one block says too much"""

SETTLED_ABOVE = 100.0
"""Hz above which modes of a quality that is met settle within a few blocks"""


class Moving:
    """The move as a share of frequency."""

    def __init__(self, span: float) -> None:
        """`span` s of a block."""
        self.most = QUICKEST * span
        self.at = 0.0
        self.gain = np.zeros(2)
        self.doubt: Floats = np.diag(np.square([0.01, 0.1, 0.01]))
        self.drift = np.diag(np.square(WANDER)) * span

    def learn(self, control: tuple[float, float], response: tuple[float, float] | None, frequency: float) -> float:
        """One block at a frequency [Hz]. `control` and `response`: ln of what was seen over what the twin shows, the
        response's less the control's, and its slope against the move. The new move."""
        self.doubt = self.doubt + self.drift
        for i, worst in enumerate(UNKNOWN):
            by = min(1.0, worst / max(float(np.sqrt(self.doubt[i, i])), 1e-12))
            self.doubt[i, :] *= by
            self.doubt[:, i] *= by
        before = self.at
        # A low mode takes its time to settle, and what it shows meanwhile is no move.
        most = self.most * min(1.0, frequency / SETTLED_ABOVE)
        told = [(control, np.array([0.0, 1.0, 0.0]))]
        if response is not None:
            told.insert(0, (response, np.array([0.0, 0.0, 1.0])))
        for (off, slope), unit in told:
            g: Floats = unit + np.array([slope, 0.0, 0.0])
            off = float(np.clip(off - slope * (self.at - before) - unit[1:] @ self.gain, -0.3, 0.3))
            p = self.doubt @ g
            k = p / (float(g @ p) + NOISE**2 * (1 + (0.02 * slope) ** 2))
            self.at += float(np.clip(k[0] * off, -most, most))
            self.gain = self.gain + k[1:] * off
            self.doubt = self.doubt - np.outer(k, p)
        self.at = float(np.clip(self.at, -MOST, MOST))
        return self.at
