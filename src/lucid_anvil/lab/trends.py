"""One reading followed over takes and units."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ..contracts.finding import Finding
from .exporting import Row, to_file
from .takes import Take, list_takes


@dataclass(frozen=True)
class Followed:
    """A reading of one take's counted finding."""

    take: Take
    article: str
    when: datetime.datetime
    value: float | None
    uncertainty: float | None
    unit: str
    low: float | None
    high: float | None
    verdict: str
    valid: bool


@dataclass(frozen=True)
class Read:
    """A take that was read: its article, when it was made, and what counts."""

    take: Take
    article: str
    when: datetime.datetime
    finding: Finding


def read_takes(jobs: Path) -> list[Read]:
    """Every finished take that has a finding, oldest first; what was cut, is not whole or doubtful is left out."""
    made = []
    for take in list_takes(jobs):
        if take.status() != "done":
            continue
        finding = take.finding()
        if finding is None or not finding.complete or take.doubt():
            continue
        events = take.events()
        wall = next((e["wall"] for e in events if e["kind"] == "begin" and "wall" in e), take.folder.stat().st_mtime)
        made.append(Read(take, take.plan().article, datetime.datetime.fromtimestamp(float(wall)), finding))
    return sorted(made, key=lambda r: r.when)


def readings_in(read: Sequence[Read], method: str) -> list[tuple[str, str, str]]:
    """Key, label and unit of the readings of a method, in the order of its newest finding."""
    held: dict[str, tuple[str, str]] = {}
    for one in reversed(read):
        if one.finding.method == method:
            for r in one.finding.readings:
                held.setdefault(r.key, (r.label, r.unit))
    return [(k, label, unit) for k, (label, unit) in held.items()]


def follow(read: Sequence[Read], method: str, key: str) -> list[Followed]:
    """A reading over the takes of a method, oldest first; another unit than the newest one's is left out."""
    rows = [
        Followed(one.take, one.article, one.when, r.value, r.uncertainty, r.unit, r.low, r.high, r.verdict, r.valid)
        for one in read
        if one.finding.method == method
        for r in one.finding.readings
        if r.key == key
    ]
    return [r for r in rows if r.unit == rows[-1].unit]


def counted(rows: Sequence[Followed]) -> list[Followed]:
    """Those that have a value that counts."""
    return [r for r in rows if r.value is not None and r.valid]


def trend_table(rows: Sequence[Followed], label: str) -> list[Row]:
    """A row a take, below a head that states the unit."""
    head: Row = ("when", "article", "take", f"{label} [{rows[0].unit}]" if rows else label, "uncertainty", "limit low",
                 "limit high", "verdict", "valid")  # fmt: skip
    table: list[Row] = [head]
    for r in rows:
        cells: tuple[Any, ...] = (r.when.isoformat(sep=" ", timespec="seconds"), r.article, r.take.name, r.value,
                                  r.uncertainty, r.low, r.high, r.verdict, r.valid)  # fmt: skip
        table.append(cells)
    return table


def export_trend(rows: Sequence[Followed], label: str, place: Path) -> None:
    """A row a take, into csv or xlsx. Raises BadInput."""
    to_file({"trend": trend_table(rows, label)}, place)
