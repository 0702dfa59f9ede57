"""The forms of a response function (ISO 7626-1, table 1): accelerance, mobility, receptance; and its real parts."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from .sinefit import Complexes, Floats

FORMS = {
    "accelerance": ("(m/s²)/N", 1.0), "mobility": ("(mm/s)/N", 1e3), "receptance": ("µm/N", 1e6),
}  # fmt: skip
"""Unit and factor from SI by form."""
PARTS = ("magnitude", "phase", "real", "imaginary")


def form_of(frequency: Floats, accelerance: Complexes, form: str) -> Complexes:
    """A response function [(m/s²)/N] over `frequency` [Hz, above zero] in another form, in the unit of `FORMS`."""
    s = 2j * np.pi * np.asarray(frequency)
    order = {"accelerance": 0, "mobility": 1, "receptance": 2}[form]
    return np.asarray(FORMS[form][1] * accelerance / s**order)


def against(frequency: Floats, accelerance: Complexes, modes: Sequence[float]) -> list[float]:
    """Modes [Hz] at which hammer and sensor move against one another: the accelerance's imaginary part is negative
    there. At a driving point there is none, since every residue is a square."""
    imaginary = np.interp(np.asarray(modes, dtype=float), frequency, np.imag(accelerance))
    return [float(f) for f, y in zip(modes, imaginary, strict=True) if y < 0]


def part_of(response: Complexes, part: str) -> Floats:
    """One of `PARTS` of a response function; the phase in degrees, from −180 to 180."""
    if part == "phase":
        return np.asarray(np.degrees(np.angle(response)))
    if part == "magnitude":
        return np.asarray(np.abs(response))
    return np.asarray(response.real if part == "real" else response.imag)
