"""How much of one tone reaches another channel: separation, gain, common-mode rejection (IEC 60268-3, 14.15 f.)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..signal.sinefit import Floats
from .distortion import Ratio, noisy_ratio
from .tones import fit


@dataclass(frozen=True)
class Passed:
    """A tone found in one record, looked for in another."""

    frequency: float
    """Hz"""
    level: float
    """rms of the tone where it is driven"""
    ratio: Ratio
    """rms of the other over it; the noise's power taken off"""
    phase: float
    """Degrees, other minus driven"""

    @property
    def told(self) -> bool:
        """Whether the tone can be told from noise in the other record."""
        return self.ratio.low > 0


def passed(driven: Floats, other: Floats, rate: float, frequency: float) -> Passed:
    """The tone near `frequency` [Hz, good to half a line] of `driven` in `other`, both of one length and rate [Hz].

    The frequency is the driven channel's, so that only what is in step with it counts. Raises ValueError where the
    record is too short.
    """
    orders = np.array([[k] for k in (1, 2, 3) if k * frequency < 0.49 * rate])
    own = fit(driven, rate, orders, np.array([frequency]))
    got = fit(other, rate, orders, own.bases, refine=False)
    ratio = noisy_ratio(got.power[:1], got.noise[:1], float(own.rms[0]))
    phase = float(np.angle(got.phasors[0] / own.phasors[0], deg=True))
    return Passed(float(own.bases[0]), float(own.rms[0]), ratio, 180.0 if phase <= -180 else phase)
