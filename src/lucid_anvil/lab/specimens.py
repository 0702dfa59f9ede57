"""A series of specimens: the same readings of several takes beside each other, with mean, spread and what lies off."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ..contracts.finding import Finding, Reading
from ..core.errors import BadInput
from ..core.quality.outliers import Far, far_off
from ..core.quality.spread import Spread, spread


@dataclass(frozen=True)
class SeriesRow:
    """One reading over the takes of a series."""

    label: str
    unit: str
    values: tuple[float | None, ...]
    """By take; None where it was not read, or is not valid"""
    uncertainties: tuple[float | None, ...]
    verdicts: tuple[str, ...]
    low: float | None
    high: float | None
    """Limits, where all takes had the same; else None"""
    of_all: Spread | None
    far: Far
    without: Spread | None
    """Without the outliers; None where there is none"""

    @property
    def inside(self) -> int:
        """How many takes are inside their limits."""
        return self.verdicts.count("inside")


@dataclass(frozen=True)
class Series:
    """Readings of takes of one method, in the order of the takes."""

    names: tuple[str, ...]
    method: str
    rows: tuple[SeriesRow, ...]


def series(findings: Sequence[tuple[str, Finding]]) -> Series:
    """What findings of one method have in common, by name and finding. Raises BadInput for one alone, or for several
    methods."""
    if len(findings) < 2:
        raise BadInput("A series needs two takes at least: tick more of them.")
    methods = list(dict.fromkeys(f.method for _n, f in findings))
    if len(methods) > 1:
        raise BadInput(f"A series is of one method, and these are of {' and '.join(methods)}: tick takes of one.")
    rows = []
    for key in dict.fromkeys(r.key for _n, f in findings for r in f.readings):
        held = [next((r for r in f.readings if r.key == key), None) for _n, f in findings]
        made = _row(held)
        if made is not None:
            rows.append(made)
    return Series(tuple(n for n, _f in findings), methods[0], tuple(rows))


def _row(held: Sequence[Reading | None]) -> SeriesRow | None:
    """None where no take has a value, or the takes do not agree on its unit."""
    there = [r for r in held if r is not None]
    values = [r.value if r is not None and r.valid else None for r in held]
    if all(v is None for v in values) or len({r.unit for r in there}) > 1:
        return None
    limits = {(r.low, r.high) for r in there}
    low, high = limits.pop() if len(limits) == 1 else (None, None)
    known = [v for v in values if v is not None]
    far = far_off(values)
    rest = [v for i, v in enumerate(values) if v is not None and i not in far.outliers]
    return SeriesRow(
        there[0].label, there[0].unit, tuple(values),
        tuple(r.uncertainty if r is not None and r.valid else None for r in held),
        tuple((r.verdict if r.valid else "open") if r is not None else "none" for r in held), low, high,
        spread(known, low, high), far, spread(rest, low, high) if far.outliers and rest else None,
    )  # fmt: skip


def words(row: SeriesRow, names: Sequence[str]) -> str:
    """What lies off in a row, in words; empty where nothing does."""
    made = []
    if row.far.outliers:
        made.append(f"outlier (1 %): {', '.join(names[i] for i in row.far.outliers)}")
    if row.far.stragglers:
        made.append(f"straggler (5 %): {', '.join(names[i] for i in row.far.stragglers)}")
    return "; ".join(made)
