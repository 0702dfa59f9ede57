"""The characteristic of a sensor that was calibrated step by step: what it gives over what it measures, and back.

A force-proving instrument is used by its interpolation equation and not by one number (ISO 376, 7.5.5): a polynomial
without a constant through the mean readings of its steps.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from ..errors import BadInput
from ..signal.sinefit import Floats

ORDER = 3
"""Of the polynomial, where there are steps enough"""
FINE = 2000
"""Places at which the polynomial is turned round; between them straight lines do"""


@dataclass(frozen=True)
class Characteristic:
    """Output over what is measured, without its zero."""

    coefficients: Floats
    """From the first order up, per unit, unit², ..."""
    top: float
    """The highest step [unit], with its sign"""

    @property
    def middle(self) -> float:
        """Output per unit at the highest step."""
        return float(self.output(np.array([self.top]))[0] / self.top)

    def output(self, x: Floats) -> Floats:
        """What the sensor gives at x [unit]; on the side where it was not calibrated, and beyond the highest step, the
        line goes straight on."""
        x = np.asarray(x, dtype=float)
        inside = np.clip(x, min(self.top, 0.0), max(self.top, 0.0))
        powers = np.array([inside**k for k in range(1, self.coefficients.size + 1)])
        return np.tensordot(self.coefficients, powers, 1) + self._slope(inside) * (x - inside)

    def measured(self, output: Floats) -> Floats:
        """What was measured [unit] where the sensor gave `output`, its zero taken off."""
        over, gives = self._table
        made = np.interp(output, gives, over)
        for end in (0, -1):
            outside = output < gives[0] if end == 0 else output > gives[-1]
            if np.any(outside):
                slope = float(self._slope(over[end : end + 1 or None])[0])
                made = np.where(outside, over[end] + (output - gives[end]) / slope, made)
        return made

    @cached_property
    def _table(self) -> tuple[Floats, Floats]:
        """What is measured, and what the sensor gives, which rises."""
        over = np.linspace(0.0, self.top, FINE + 1)
        gives = self.output(over)
        order = slice(None) if gives[-1] > gives[0] else slice(None, None, -1)
        return over[order], gives[order]

    def _slope(self, x: Floats) -> Floats:
        powers = np.array([k * x ** (k - 1) for k in range(1, self.coefficients.size + 1)])
        return np.asarray(np.tensordot(self.coefficients, powers, 1))


def characteristic(steps: Sequence[Sequence[float]]) -> Characteristic:
    """From rows of (step [unit], output there without its zero), all on one side of nought. Raises BadInput for steps
    that make no line which only rises or only falls."""
    held = sorted(((float(r[0]), float(r[1])) for r in steps if r[0]), key=lambda r: abs(r[0]))
    if not held:
        raise BadInput("a characteristic needs a step that is not nought.")
    x, y = np.array(held).T
    if np.any(x * x[-1] <= 0) or not np.isfinite(y).all():
        raise BadInput("the steps of a characteristic lie on one side of nought.")
    order = min(ORDER, max(x.size - 1, 1))
    scale = x[-1]
    powers = np.array([(x / scale) ** k for k in range(1, order + 1)]).T
    solved = np.linalg.lstsq(powers, y, rcond=None)[0] / scale ** np.arange(1, order + 1)
    made = Characteristic(solved, float(x[-1]))
    slopes = made._slope(np.linspace(0.0, made.top, 200))
    if not (np.all(slopes > 0) or np.all(slopes < 0)):
        raise BadInput("the steps of a characteristic make a line that turns back: look at the certificate's table.")
    return made
