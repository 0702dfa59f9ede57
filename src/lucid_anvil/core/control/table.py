"""Tables of breakpoints as people have them: read from text, and recognised as the constants they round."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

import numpy as np

from ..errors import BadInput
from ..quantities import factor, same_kind
from ..signal.sinefit import Floats
from .sineprofile import EXPONENT, Segment, SineProfile, solve

NEAR = 0.15
"""An exponent this close to a whole one may be a rounded constant law."""
ROUNDING = 0.04
"""Share by which a rounded breakpoint may miss the exact law."""
KINDS = {"acceleration": "m/s^2", "velocity": "m/s", "displacement": "m", "density": "(m/s^2)^2/Hz"}


@dataclass(frozen=True)
class Table:
    """Breakpoints: frequency [Hz], value in the SI unit of `kind` (displacement peak to peak)."""

    frequency: Floats
    value: Floats
    kind: str


def _number(text: str, comma: bool) -> float:
    return float(text.replace(",", ".") if comma else text)


def read_table(text: str, unit: str | None = None) -> Table:
    """Two columns of text: tabs, semicolons, commas or blanks; decimal comma unless the comma parts the columns;
    the unit in a header like `f [Hz]  a [g]`, or given. Raises BadInput naming the line."""
    lines = [(i, line.strip()) for i, line in enumerate(text.replace("\ufeff", "").splitlines(), 1)]
    lines = [(i, line) for i, line in lines if line and not line.startswith("#")]
    if not lines:
        raise BadInput("The table is empty: paste two columns, frequency and value.")
    mark = next((m for m in ("\t", ";") if m in lines[-1][1]), None)
    # Whole numbers show no comma: what a comma is, all rows of numbers tell together.
    numbers = [line for _i, line in lines if line[:1].isdigit()]
    blanks = mark is None and any(re.search(r"\S\s+\S", line) for line in numbers)
    inside, parting = (any(re.search(p, line) for line in numbers) for p in (r",\S", r",(\s|$)"))
    comma = mark is not None or (blanks and inside and not parting)
    rows, header, wide = [], "", 0
    for i, line in lines:
        cells = re.split(re.escape(mark), line) if mark else re.split(r"\s+" if blanks and comma else r"[,\s]+", line)
        cells = [c.strip() for c in cells if c.strip()]
        try:
            rows.append((_number(cells[0], comma), _number(cells[1], comma)))
            wide = wide or len(cells)
            if len(cells) != wide:
                raise BadInput(f"Line {i}, '{line[:40]}': it has {len(cells)} columns, the first row {wide}: mend it.")
        except BadInput:
            raise
        except (ValueError, IndexError):
            if rows:
                raise BadInput(f"Line {i}, '{line[:40]}': two numbers are wanted here: mend it.") from None
            header = line
    if len(rows) < 2:
        raise BadInput("The table has fewer than two rows of numbers: paste two columns, frequency and value.")
    f, v = np.array(rows).T
    units = _units_of(header, mark)
    if header and unit is None and all(same_kind(u, "Hz") for u in units):
        raise BadInput(f"'{header[:60]}': its units are not understood: write them like 'f [Hz]; a [g]'.")
    by = factor(units[0], "Hz") if units and same_kind(units[0], "Hz") else 1.0
    unit = unit or (units[-1] if units and not same_kind(units[-1], "Hz") else None)
    if unit is None:
        raise BadInput("The table has no unit: write it in the header, like 'Hz; g', or choose one.")
    kind = next((k for k, si in KINDS.items() if same_kind(unit, si)), None)
    if kind is None:
        raise BadInput(f"'{unit}' is no acceleration, velocity, displacement or density: choose another unit.")
    if np.any(f <= 0) or np.any(v <= 0) or np.any(np.diff(f) <= 0):
        raise BadInput("The table's frequencies must be above zero and rise, and its values be above zero.")
    return Table(f * by, v * factor(unit, KINDS[kind]), kind)


def _units_of(header: str, mark: str | None) -> list[str]:
    """Units that a header names, in brackets or as the last word of a cell that is one: `f [Hz]; a [g]`, `Hz; g`,
    `frequency Hz, level m/s²`."""
    cells = [c for c in (header.split(mark) if mark else re.split(r"[,;]|\s{2,}", header)) if c.strip()]
    if len(cells) == 1:
        cells = re.findall(r"\S+(?:\s*[\[(][^\])]*[\])])?", cells[0])
    made = []
    for cell in cells:
        held = re.findall(r"[\[(]((?:[^\[\]()]|\([^()]*\))+)[\])]", cell)
        words = [*reversed(held), cell.strip(), *reversed(cell.split())]
        found = next((w for w in words if any(_is_unit(w, k) for k in ("Hz", *KINDS.values()))), None)
        if found is not None:
            made.append(found)
        elif held:
            made.append(held[-1])
    return made


def _is_unit(word: str, kind: str) -> bool:
    try:
        return same_kind(word, kind)
    except (BadInput, ValueError):
        return False


@dataclass(frozen=True)
class Recognised:
    """A table as exact laws, and how far its breakpoints lie from them."""

    segments: tuple[Segment, ...]
    profile: SineProfile
    difference: Floats
    """%, table over exact law at each breakpoint"""
    constants: int
    """segments that are constants"""


def accelerations(table: Table) -> Floats:
    """The table's values as acceleration [m/s² peak]."""
    w = 2 * np.pi * table.frequency
    return table.value * {"acceleration": np.ones_like(w), "velocity": w, "displacement": w * w / 2}[table.kind]


def _law_of(exponent: float) -> str | None:
    for law, n in EXPONENT.items():
        if abs(exponent - n) <= NEAR:
            return law
    return None


def recognise(table: Table) -> Recognised:
    """The exact form that a table of breakpoints most likely rounds.

    Stretches whose log-log slope is nearly 0, 1 or 2 become constant acceleration, velocity or displacement with
    the value that is their geometric mean, rounded to the digits at which it still lies within the table's own
    rounding; neighbours of one law are joined; other stretches stay lines. Where two constants meet, the crossover
    is left to be solved.
    """
    if table.kind == "density":
        raise BadInput("A density is a random profile's: it has no constant laws to be recognised.")
    f, a = table.frequency, accelerations(table)
    n = np.diff(np.log(a)) / np.diff(np.log(f))
    laws = [_law_of(float(x)) for x in n]
    groups: list[tuple[str, int, int]] = []
    for i, law in enumerate(laws):
        name = law or "line"
        if groups and groups[-1][0] == name and name != "line" and _close(name, f, a, groups[-1][1], i + 1):
            groups[-1] = (name, groups[-1][1], i + 1)
        else:
            groups.append((name, i, i + 1))
    if (
        groups[0][0] == "line"
        or groups[-1][0] == "line"
        or any(x[0] == y[0] for x, y in zip(groups, groups[1:], strict=False))
    ):
        segments = _as_written(table)
        profile = solve(float(f[0]), float(f[-1]), list(segments)) if segments else None
        if profile is None:
            raise BadInput("No constant law is seen in this table: keep it as lines.")
    else:
        segments = tuple(
            Segment(
                name, None if name == "line" else _rounded(name, f, a, i, j),
                None if k + 1 == len(groups) or (name != "line" and groups[k + 1][0] != "line") else float(f[j]),
            )
            for k, (name, i, j) in enumerate(groups)
        )  # fmt: skip
        profile = solve(float(f[0]), float(f[-1]), list(segments))
    difference = 100 * (a / profile.acceleration(f) - 1)
    return Recognised(segments, profile, difference, sum(s.law != "line" for s in segments))


def _values(law: str, f: Floats, a: Floats, i: int, j: int) -> Floats:
    w = 2 * np.pi * f[i : j + 1]
    x = a[i : j + 1]
    by = {"acceleration": np.ones_like(w), "velocity": w, "displacement": w * w / 2}[law]
    return np.asarray(x / by)


def _close(law: str, f: Floats, a: Floats, i: int, j: int) -> bool:
    v = _values(law, f, a, i, j)
    return bool(v.max() / v.min() < 1 + 2 * ROUNDING)


def _rounded(law: str, f: Floats, a: Floats, i: int, j: int) -> float:
    """The geometric mean with as few digits as stay within the spread (but two at least)."""
    v = _values(law, f, a, i, j)
    mean = float(np.exp(np.mean(np.log(v))))
    spread = max(float(v.max() / v.min()) - 1, 1e-6)
    for digits in range(2, 7):
        short = float(f"{mean:.{digits}g}")
        if abs(short / mean - 1) <= spread / 2:
            return short
    return mean


def _as_written(table: Table) -> tuple[Segment, ...]:
    """Breakpoints as they are: constants where they are exact, lines between levels that are held for a point."""
    f, a = table.frequency, accelerations(table)
    made: list[Segment] = []
    for i in range(f.size - 1):
        n = math.log(a[i + 1] / a[i]) / math.log(f[i + 1] / f[i])
        law = _law_of(n)
        if law is None:
            return ()
        value = float(np.exp(np.mean(np.log(_values(law, f, a, i, i + 1)))))
        made.append(Segment(law, value, float(f[i + 1]) if i + 2 < f.size else None))
    return tuple(made)
