"""Values as people read them: a fitting prefix, digits by the doubt, limits in few signs."""

from __future__ import annotations

import math

from .quantities import round_to_doubt

PREFIXED = ("V", "A", "W", "ohm", "Hz", "m", "s")
"""Units that take a prefix"""


def figure(value: float, doubt: float | None, unit: str) -> str:
    """A value in the unit's fitting prefix, with as many digits as its doubt deserves, four at most; what was counted
    as it is."""
    scale, shown = fitting(value, unit)
    by = value * scale
    least = max((doubt or 0.0) * scale, 5e-3 * abs(by))
    counted = doubt == 0 and float(by).is_integer()
    text = f"{by:.0f}" if counted else round_to_doubt(by, least) if least > 0 else f"{by:.3g}"
    return f"{text} {shown}".strip()


def fitting(value: float, unit: str) -> tuple[float, str]:
    """What a value is multiplied by, and the unit it then has, for a person to read it: 0.00093 m is 0.93 mm."""
    scale, prefix = 1.0, ""
    if unit in PREFIXED and value:
        size = abs(value)
        if size < 0.8e-3:
            scale, prefix = 1e6, "µ"
        elif size < 0.8:
            scale, prefix = 1e3, "m"
        elif unit == "Hz" and size >= 1e4:
            scale, prefix = 1e-3, "k"
    return scale, prefix + {"ohm": "Ω", "deg": "°"}.get(unit, unit)


def axis_unit(most: float, unit: str) -> tuple[float, str]:
    """What the values of an axis are multiplied by, and the unit they then have, where its largest magnitude is `most`:
    6e6 Pa are 60 bar, 4e-4 V are 0.4 mV."""
    if unit == "Pa" and most >= 1e4:
        return 1e-5, "bar"
    if unit in ("N", "V", "m", "W", "J", "A", "Pa") and most > 0:
        for at, scale, prefix in ((1e6, 1e-6, "M"), (1e4, 1e-3, "k"), (0.8, 1.0, ""), (0.8e-3, 1e3, "m")):
            if most >= at:
                return scale, prefix + unit
        return 1e6, "µ" + unit
    return 1.0, unit


def significant(value: float, digits: int = 2) -> str:
    """So many significant digits, without an exponent from a hundred-thousandth to ten million: 110, not 1.1e+02."""
    if not math.isfinite(value) or not 1e-5 <= abs(value) < 1e7:
        return f"{value:.{digits}g}".replace("-", "−")
    held = float(f"{value:.{digits}g}")
    return f"{held:.{max(digits - 1 - math.floor(math.log10(abs(held))), 0)}f}".replace("-", "−")


def limit_text(low: float | None, high: float | None, unit: str) -> str:
    """A published limit in few signs."""
    if low is None and high is None:
        return ""
    if low is not None and high is not None:
        if math.isclose(low, -high):
            return f"± {_one(high, unit)}"
        return f"{_one(low, unit)} to {_one(high, unit)}"
    return f"≥ {_one(low, unit)}" if low is not None else f"≤ {_one(high or 0.0, unit)}"


def _one(value: float, unit: str) -> str:
    """A limit as it was published: four digits at most, no doubt."""
    scale, prefix = (1e3, "m") if unit in PREFIXED and 0 < abs(value) < 0.8 else (1.0, "")
    shown = {"ohm": "Ω"}.get(unit, unit)
    return f"{value * scale:.4g} {prefix}{shown}".strip().replace("-", "−")
