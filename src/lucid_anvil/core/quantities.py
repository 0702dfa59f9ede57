"""Units at the edge: text with a unit becomes a float in the unit that the code works in.

Inside the program every number is a float in a unit that its name or docstring states. Only what a person
writes, or a file holds, passes through here. `g` is the standard acceleration of gravity, 9.80665 m/s²
(ISO 80000-3), never the gram; therefore the registry is built from a short list of our own.
"""

from __future__ import annotations

import math
import re
from functools import cache
from typing import Any

from .errors import BadInput

STANDARD_GRAVITY = 9.80665
"""m/s², exact by convention (ISO 80000-3)."""

_DEFINITIONS = """
milli- = 1e-3 = m-
micro- = 1e-6 = µ- = μ- = u-
nano- = 1e-9 = n-
pico- = 1e-12 = p-
centi- = 1e-2 = c-
kilo- = 1e3 = k-
mega- = 1e6 = M-
giga- = 1e9 = G-
meter = [length] = m = metre
second = [time] = s = sec
ampere = [current] = A
kelvin = [temperature] = K
degreeC = kelvin
kilogram_ = [mass] = kg
radian = [] = rad
degree = pi / 180 * radian = deg = °
revolution = 2 * pi * radian = rev
percent = 0.01 = %
bit = [information]
octave = [logfrequency] = oct
minute = 60 * second = min
hour = 3600 * second = h
day = 24 * hour = d
hertz = 1 / second = Hz
newton = kilogram_ * meter / second ** 2 = N
pascal = newton / meter ** 2 = Pa
bar = 1e5 * pascal
inch = 0.0254 * meter = in
pound_force = 4.4482216152605 * newton = lbf
psi = pound_force / inch ** 2
joule = newton * meter = J
watt = joule / second = W
coulomb = ampere * second = C
volt = watt / ampere = V
ohm = volt / ampere = Ω = Ω
farad = coulomb / volt = F
tesla = volt * second / meter ** 2 = T
standard_gravity = 9.80665 * meter / second ** 2 = g = g_n
rpm = 1 / minute
pi = 3.141592653589793
"""


@cache
def registry() -> Any:
    """The pint registry of the units that a bench knows, made on first use (pint is slow to import)."""
    import pint

    made: Any = pint.UnitRegistry(None)
    made.load_definitions([line for line in _DEFINITIONS.splitlines() if line])
    return made


_NUMBER = re.compile(r"^\s*([+-]?(?:\d+(?:[.,]\d*)?|[.,]\d+)(?:[eE][+-]?\d+)?)\s*(.*?)\s*$")
_SUPERSCRIPTS = str.maketrans({"²": "^2", "³": "^3", "·": "*", "⋅": "*", "−": "-", "℃": "°C"})


def plain_unit(unit: str) -> str:
    """A unit as pint reads it: superscripts, raised dots and `%` spelled out."""
    return unit.translate(_SUPERSCRIPTS).replace("%", "percent").replace("°", "degree").strip()


@cache
def factor(unit: str, into: str) -> float:
    """What a number in `unit` is multiplied by to be in `into`.

    Raises BadInput for an unknown unit or one of another kind.
    """
    if plain_unit(unit) == plain_unit(into):
        return 1.0  # without pint, whose import costs a start a quarter of a second
    if "degreeC" in (plain_unit(unit), plain_unit(into)):  # a step of 1 °C is one of 1 K; a temperature is not
        raise BadInput(f"'{unit}' can't be turned into '{into}': °C and K count from different points.")
    if into == "dB":
        raise BadInput(f"'{unit}' can't be turned into 'dB': give a level in dB.")
    import pint

    ureg = registry()
    try:
        return float(ureg.Quantity(1.0, plain_unit(unit)).to(plain_unit(into)).magnitude)
    except pint.DimensionalityError:
        raise BadInput(f"'{unit}' can't be turned into '{into}': give a quantity of that kind.") from None
    except Exception:
        raise BadInput(f"The unit '{unit}' is not known here: write it like 'm/s^2', 'mV/(m/s^2)' or '%'.") from None


def same_kind(unit: str, other: str) -> bool:
    """Whether the two units measure the same kind of quantity."""
    try:
        factor(unit, other)
    except BadInput:
        return False
    return True


def split(text: str) -> tuple[float, str]:
    """`'98.6 mV/(m/s²)'` as (98.6, 'mV/(m/s²)'); the unit may be empty. Raises BadInput."""
    found = _NUMBER.match(text.replace("−", "-"))
    if not found:
        raise BadInput(f"'{text}' is not a number with a unit: write it like '9.87 mV/(m/s^2)'.")
    value = float(found[1].replace(",", "."))
    if not math.isfinite(value):
        raise BadInput(f"'{text}' is not a finite number.")
    return value, found[2]


GRAMS = {"g": 1e-3, "mg": 1e-6, "µg": 1e-9, "t": 1e3}
"""kg; g alone stands for the standard acceleration of gravity"""
GRAMS_A_VOLUME = {"g/cm³": 1e3, "g/cm^3": 1e3, "g/cm3": 1e3, "g/ml": 1e3, "g/l": 1.0}
"""kg/m³"""


def parse(given: Any, unit: str, where: str = "") -> float:
    """A quantity as people write it, as a float in `unit`; a bare number is taken to be in `unit` already.

    Raises BadInput naming `where` when the text is not a number with a unit of that kind.
    """
    at = f"{where}: " if where else ""
    if isinstance(given, bool) or not isinstance(given, (int, float, str)):
        raise BadInput(f"{at}{given!r} is not a quantity: write a number with a unit, like '1 {unit}'.")
    if not isinstance(given, str):
        if not math.isfinite(given):
            raise BadInput(f"{at}{given!r} is not a finite number.")
        return float(given)
    try:
        value, own = split(given)
        if unit == "kg" and own in GRAMS:  # where a mass is wanted, g is no acceleration
            return value * GRAMS[own]
        if unit == "kg/m^3" and own in GRAMS_A_VOLUME:
            return value * GRAMS_A_VOLUME[own]
        return value * factor(own, unit) if own else value
    except BadInput as bad:
        raise BadInput(f"{at}{bad}") from None


def degrees(given: Any, where: str = "") -> float:
    """A temperature [°C], written bare, in °C or in K. Raises BadInput naming `where`."""
    text = str(given).replace("℃", "°C").strip() if isinstance(given, str) else ""
    if text.endswith("K"):
        return parse(text[:-1].strip(), "", where) - 273.15
    return parse(text.removesuffix("°C").strip() if text else given, "", where)


SENSITIVITY_UNITS = {"V": "mV/(m/s²)", "C": "pC/(m/s²)"}
"""Unit that a vibration sensor's sensitivity is stated in, by what the sensor puts out."""


def sensitivity_unit(text: str | float) -> str:
    """The unit, among SENSITIVITY_UNITS, that a stated sensitivity is of; a bare number is in mV/(m/s²)."""
    if isinstance(text, str):
        own = split(text)[1]
        if own:
            for unit in SENSITIVITY_UNITS.values():
                if same_kind(own, unit):
                    return unit
    return SENSITIVITY_UNITS["V"]


def preferred_frequencies(start: float, stop: float, steps_per_octave: float) -> list[float]:
    """Preferred frequencies between `start` and `stop` [Hz], both included where they are preferred.

    ISO 266 (from the R10 series of ISO 3) for 1 and 3 steps per octave, R20 for 6 and R40 for 12.
    """
    r40 = [1.0, 1.06, 1.12, 1.18, 1.25, 1.32, 1.4, 1.5, 1.6, 1.7, 1.8, 1.9, 2.0, 2.12, 2.24, 2.36, 2.5, 2.65,
           2.8, 3.0, 3.15, 3.35, 3.55, 3.75, 4.0, 4.25, 4.5, 4.75, 5.0, 5.3, 5.6, 6.0, 6.3, 6.7, 7.1, 7.5, 8.0,
           8.5, 9.0, 9.5]  # fmt: skip
    stride = {1: 12, 3: 4, 6: 2, 12: 1}.get(int(steps_per_octave))
    if stride is None:
        raise BadInput(f"steps_per_octave {steps_per_octave}: the preferred series have 1, 3, 6 or 12.")
    everything = [round(m * 10.0**d, 6) for d in range(-1, 6) for m in r40]
    anchor = everything.index(1000.0)
    chosen = [f for i, f in enumerate(everything) if (i - anchor) % stride == 0]
    return [f for f in chosen if start * (1 - 1e-9) <= f <= stop * (1 + 1e-9)]


def round_to_doubt(value: float, doubt: float | None) -> str:
    """`value` with as many digits as its expanded uncertainty deserves: two digits of the doubt (JCGM 100, 7.2.6).
    Where nobody knows it, four digits, without zeros that would claim more, and 10400 rather than 1.04e+04."""
    if doubt is None or not math.isfinite(doubt) or doubt <= 0:
        held = float(f"{value:.4g}")
        text = f"{held:.10g}" if 1e-4 <= abs(held) < 1e7 else f"{held:g}"
    else:
        doubt = max(doubt, 1e-9 * abs(value))  # a fit without any noise knows no more than arithmetic does
        text = f"{value:.{max(1 - math.floor(math.log10(doubt)), 0)}f}"
    return text.lstrip("-") if float(text) == 0 else text.replace("-", "−")
