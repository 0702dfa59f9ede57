"""Time histories: a record made fit for a shaker, which must end where it began and has only so much stroke."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..errors import BadInput
from ..signal.sinefit import Floats


@dataclass(frozen=True)
class Motion:
    """Acceleration [m/s²] and what follows from it by the trapezium rule from rest."""

    acceleration: Floats
    rate: float

    @property
    def velocity(self) -> Floats:
        """m/s"""
        return integrate(self.acceleration, self.rate)

    @property
    def displacement(self) -> Floats:
        """m"""
        return integrate(self.velocity, self.rate)

    def peak_to_peak(self) -> float:
        d = self.displacement
        return float(np.max(d) - np.min(d)) if d.size else 0.0


def integrate(x: Floats, rate: float) -> Floats:
    """Running integral by the trapezium rule, from zero."""
    made = np.zeros_like(x)
    np.cumsum((x[1:] + x[:-1]) / (2 * rate), out=made[1:])
    return made


def zero_phase(x: Floats, rate: float, high_pass: float | None, low_pass: float | None, order: int = 4) -> Floats:
    """Butterworth magnitude (order 2·`order` in all) without phase, by Fourier transform with the ends padded."""
    n = x.size
    pad = n
    size = n + 2 * pad
    from scipy.fft import irfft, next_fast_len, rfft, rfftfreq

    size = next_fast_len(size, real=True)
    f = rfftfreq(size, 1 / rate)
    shape = np.ones_like(f)
    if high_pass:
        with np.errstate(divide="ignore"):
            shape = shape / (1 + (high_pass / np.where(f > 0, f, np.nan)) ** (2 * order))
        shape = np.nan_to_num(shape, nan=0.0)
    if low_pass:
        shape = shape / (1 + (f / low_pass) ** (2 * order))
    return irfft(rfft(x, size) * shape, size)[:n]


def taper(x: Floats, rate: float, seconds: float) -> Floats:
    """Half-cosine fade at both ends."""
    n = min(int(round(seconds * rate)), x.size // 2)
    if n < 1:
        return x
    made = x.copy()
    ramp = 0.5 - 0.5 * np.cos(np.pi * (np.arange(n) + 0.5) / n)
    made[:n] *= ramp
    made[-n:] *= ramp[::-1]
    return made


def end_at_rest(x: Floats, rate: float) -> Floats:
    """The record with the smallest smooth change after which velocity and displacement end at zero.

    The change is w·(c₀ + c₁·u) with w a squared sine over the record and u its time from the middle; the two
    constants follow from the two end values.
    """
    n = x.size
    if n < 8:
        return x
    t = np.arange(n) / rate
    w = np.sin(np.pi * np.arange(n) / (n - 1)) ** 2
    shapes = [w, w * (t - t[-1] / 2)]

    def ends(a: Floats) -> list[float]:
        v = integrate(a, rate)
        return [float(v[-1]), float(integrate(v, rate)[-1])]

    system = np.array([ends(s) for s in shapes]).T
    c = np.linalg.solve(system, ends(x))
    return x - c[0] * shapes[0] - c[1] * shapes[1]


@dataclass(frozen=True)
class Compensated:
    """A record before and after compensation."""

    before: Motion
    after: Motion
    high_pass: float
    """Hz, the corner used"""
    notes: tuple[str, ...]


def lowest_content(x: Floats, rate: float, share: float = 1e-3) -> float:
    """Hz below which `share` of the record's mean square lies."""
    p = np.abs(np.fft.rfft(x)) ** 2
    total = np.cumsum(p)
    if total[-1] <= 0:
        return 0.0
    return float(np.searchsorted(total, share * total[-1]) * rate / x.size)


def compensate(x: Floats, rate: float, high_pass: float | None = None, stroke: float | None = None) -> Compensated:
    """Make a record drivable: high-passed without phase, faded over the high-pass's own time at the ends, and
    corrected so that velocity and displacement end at zero.

    `high_pass` [Hz]: the corner; by default a third of the frequency below which a thousandth of the record's power
    lies, 0.5 Hz at least. `stroke` [m peak to peak]: the corner is raised until the motion fits. Raises BadInput
    when no corner below 100 times the first makes it fit.
    """
    if x.size < 16:
        raise BadInput("the record has fewer than 16 samples: give a longer one.")
    level = x - x.mean() if high_pass is None else x
    corner = high_pass if high_pass is not None else max(lowest_content(level, rate) / 3, 0.5, 1.0 * rate / x.size)
    notes: list[str] = []
    first = corner

    def once(f: float) -> Motion:
        y = zero_phase(x, rate, f, None)
        return Motion(end_at_rest(taper(y, rate, min(0.25 / f, x.size / rate / 8)), rate), rate)

    after = once(corner)
    while stroke is not None and after.peak_to_peak() > stroke:
        corner *= 1.12
        if corner > min(100 * first, 0.4 * rate):
            raise BadInput(
                f"stroke: the record does not fit into {1e3 * stroke:g} mm whatever the high-pass: scale it."
            )
        after = once(corner)
    before = Motion(x, rate)
    if corner > first:
        notes.append(f"High-pass raised from {first:.3g} Hz to {corner:.3g} Hz so that the stroke fits.")
    held = float(np.sqrt(np.mean(x**2)))
    change = float(np.sqrt(np.mean((after.acceleration - x) ** 2)))
    notes.append(
        f"Removed what a shaker can't do: high-pass at {corner:.3g} Hz without phase, ends faded, and a smooth change"
        f" that ends velocity and displacement at zero; in all {100 * change / held if held else 0:.2g} % of the rms."
    )
    return Compensated(before, after, corner, tuple(notes))


def resample(x: Floats, rate: float, wanted: float) -> Floats:
    """The record at another rate [Hz], band-limited, by rational polyphase filtering."""
    from fractions import Fraction

    from scipy.signal import resample_poly

    ratio = Fraction(wanted / rate).limit_denominator(2000)
    if abs(float(ratio) * rate / wanted - 1) > 1e-6:
        raise BadInput(f"resample: {rate:g} Hz can't be turned into {wanted:g} Hz: choose a rate with a simpler ratio.")
    if ratio == 1:
        return x
    return resample_poly(x, ratio.numerator, ratio.denominator, padtype="constant")
