"""A reference's frequency response, known at its calibration points."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..errors import BadInput


@dataclass(frozen=True)
class Response:
    """Sensitivity against frequency; between the points linear over log frequency. Phase is taken as zero."""

    frequencies: tuple[float, ...]
    """Hz, rising; one alone means the same at every frequency."""
    values: tuple[float, ...]

    def __post_init__(self) -> None:
        if len(self.frequencies) != len(self.values) or not self.values:
            raise BadInput("a response needs as many sensitivities as frequencies, and one at least.")
        if any(b <= a for a, b in zip(self.frequencies, self.frequencies[1:], strict=False)):
            raise BadInput("the frequencies of a response must rise: put its rows in order.")
        if min(self.frequencies) <= 0 or min(self.values) <= 0:
            raise BadInput("frequencies and sensitivities of a response must be above zero.")

    def covers(self, frequency: float) -> bool:
        """Whether the points reach to this frequency."""
        if len(self.frequencies) == 1:
            return True
        return self.frequencies[0] * (1 - 1e-9) <= frequency <= self.frequencies[-1] * (1 + 1e-9)

    def at(self, frequency: float) -> float:
        """Sensitivity at a frequency that is covered."""
        return float(np.interp(np.log(frequency), np.log(self.frequencies), self.values))

    def interpolation_doubt(self, frequency: float) -> float:
        """Half-width [%] of the interpolation's error: how far the straight line is from a cubic through the
        four nearest points. Zero at the points themselves."""
        f, v = np.log(self.frequencies), np.asarray(self.values)
        if f.size < 4 or not self.covers(frequency):
            return 0.0
        x = np.log(frequency)
        i = int(np.clip(np.searchsorted(f, x) - 2, 0, f.size - 4))
        fs, vs = f[i : i + 4], v[i : i + 4]
        cubic = sum(vs[j] * np.prod([(x - fs[k]) / (fs[j] - fs[k]) for k in range(4) if k != j]) for j in range(4))
        return float(abs(100 * (cubic / self.at(frequency) - 1)))
