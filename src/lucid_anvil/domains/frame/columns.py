"""Columns of one's own over what each cycle shows: a name, a formula, a unit (`core/formulas.py`)."""

from __future__ import annotations

import difflib
import re
from collections.abc import Mapping, Sequence

import numpy as np

from ...contracts.recording import Floats
from ...contracts.settings import Model
from ...core.errors import BadInput
from ...core.formulas import Formula, formula
from .shared import Specimen

_EXTREME = re.compile(r"\b(\w+?)_(max|min|swing)\b")
KNOWN = {"cycle": "", "force_max": "N", "force_min": "N", "force_swing": "N", "displacement_max": "m",
         "displacement_min": "m", "displacement_swing": "m", "stiffness": "N/m", "energy": "J"}  # fmt: skip
"""What every cycle has"""


class Column(Model):
    """One of them."""

    name: str
    formula: str
    """Over cycle, stiffness, energy, force_max, displacement_swing and the like of every channel, area and length of
    the specimen; + - * / ^, sqrt, abs, ln, lg, exp, min, max, first, last; quantities such as 2 kN"""
    unit: str = ""
    """In which it is shown; a usual one of its kind when missing"""

    @property
    def key(self) -> str:
        """Of its curve and its reading."""
        return "own_" + "_".join(re.findall(r"\w+", self.name.lower()))

    @property
    def title(self) -> str:
        return f"{self.name} = {self.formula.strip()}"


def formulas(columns: Sequence[Column], specimen: Specimen) -> list[tuple[Column, Formula]]:
    """The columns, read. Raises BadInput for one that can't be, or two of one name."""
    made = []
    keys = [c.key for c in columns]
    for i, one in enumerate(columns, start=1):
        if one.key == "own_" or keys.count(one.key) > 1:
            raise BadInput(f"columns, row {i}: give it a name that no other has.")
        units = {**KNOWN, **{k: "m" for k in _lengths(one.formula) if k not in KNOWN}, **_sizes(specimen)[1]}
        made.append((one, formula(one.formula, units, f"columns, {one.name}", one.unit)))
    return made


def computed(
    columns: Sequence[tuple[Column, Formula]], cycles: Mapping[str, Floats], specimen: Specimen
) -> list[tuple[Column, Formula, Floats | None]]:
    """Each with its values, a row a cycle; None where something that it needs was not measured."""
    held = {**cycles, **_sizes(specimen)[0]}
    return [(c, f, f(held) if all(n in held for n in f.names) else None) for c, f in columns]


def fit(columns: Sequence[tuple[Column, Formula]], roles: Sequence[str]) -> None:
    """Raises BadInput for a column that speaks of a channel which is not there."""
    there = [*KNOWN, "area", "length", *(f"{r}_{way}" for r in roles for way in ("max", "min", "swing"))]
    for column, one in columns:
        for name in one.names:
            if name not in there:
                near = difflib.get_close_matches(name, there, 1, 0.6)
                meant = f"; did you mean '{near[0]}'?" if near else "."
                raise BadInput(f"columns, {column.name}: '{name}' is of no input that is there{meant}")


def _lengths(text: str) -> list[str]:
    """Names that say an extreme of a channel that is no force."""
    return [m[0] for m in _EXTREME.finditer(text) if m[1] != "force"]


def _sizes(specimen: Specimen) -> tuple[dict[str, Floats], dict[str, str]]:
    """What is known of the specimen, and its units."""
    values: dict[str, Floats] = {}
    if (area := specimen.section()) is not None:
        values["area"] = np.array(area)
    if specimen.parallel_length is not None:
        values["length"] = np.array(specimen.parallel_length)
    return values, {"area": "m^2", "length": "m"}
