"""A finding as a table that others can open: its readings, then each curve, as csv or xlsx."""

from __future__ import annotations

import csv
import io
import os
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from ..contracts.finding import Curve, Finding
from ..core.errors import BadInput
from .textfiles import whole_write

HEAD = ("key", "reading", "value", "unit", "uncertainty", "coverage", "interval low", "interval high", "limit low",
        "limit high", "verdict", "valid", "reason")  # fmt: skip
Row = Sequence[Any]


def readings_table(finding: Finding) -> list[Row]:
    """A row a reading, below a head; what is not known is empty."""
    made: list[Row] = [HEAD]
    for r in finding.readings:
        low, high = r.interval or (None, None)
        made.append((r.key, r.label, r.value, r.unit, r.uncertainty, r.coverage, low, high, r.low, r.high, r.verdict,
                     r.valid, r.reason))  # fmt: skip
    return made


def curve_table(curve: Curve) -> list[Row]:
    """A row a point, below a head that states the units; columns that a curve does not have are left out."""
    columns: list[tuple[str, Sequence[Any]]] = [
        (f"x [{curve.x_unit}]", curve.x),
        (f"{curve.label} [{curve.y_unit}]", curve.y),
    ]
    for name in ("uncertainty", "low", "high", "valid"):
        values = getattr(curve, name)
        if values is not None:
            columns.append((name if name == "valid" else f"{name} [{curve.y_unit}]", values))
    return [tuple(name for name, _ in columns), *zip(*(v for _, v in columns), strict=True)]


def export(finding: Finding, place: Path, more: Sequence[Row] = ()) -> None:
    """Write a finding to a csv or an xlsx file, whole or not at all. `more`: rows of facts that stand above. Raises
    BadInput for another ending, or a place that can't be written or is taken."""
    _free(place)
    facts: list[Row] = [*more, ("method", finding.method), ("verdict", finding.verdict)]
    facts += [("missing", m) for m in finding.missing] + [("note", n) for n in finding.notes]
    tables = [facts, readings_table(finding), *([(c.key, c.label), *curve_table(c)] for c in finding.curves)]
    # A spreadsheet has a page a curve; a text has all of it below one another.
    pages = {"Readings": [*facts, (), *readings_table(finding)]} | {c.key: curve_table(c) for c in finding.curves}
    _put(place, tables, pages)


def to_file(pages: Mapping[str, Sequence[Row]], place: Path) -> None:
    """Tables into a csv or an xlsx file, a page each, whole or not at all. Raises BadInput as `export` does."""
    _free(place)
    _put(place, list(pages.values()), pages)


def _free(place: Path) -> None:
    if place.suffix.lower() not in (".csv", ".xlsx"):
        raise BadInput(f"{place}: a finding goes out as .csv or .xlsx: end the name so.")
    if place.exists():
        raise BadInput(f"{place}: it exists already: choose another name.")


def _put(place: Path, tables: Sequence[Sequence[Row]], pages: Mapping[str, Sequence[Row]]) -> None:
    try:
        if place.suffix.lower() == ".csv":
            whole_write(place, _as_csv(tables))
        else:
            _to_xlsx(place, pages)
    except OSError as problem:
        raise BadInput(f"{place}: it can't be written ({problem.strerror}): choose another place.") from None


def _as_csv(tables: Sequence[Sequence[Row]]) -> str:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    for number, table in enumerate(tables):
        if number:
            writer.writerow(())
        writer.writerows(["" if v is None else v for v in row] for row in table)
    return out.getvalue()


def _to_xlsx(place: Path, pages: Mapping[str, Sequence[Row]]) -> None:
    from openpyxl import Workbook

    book = Workbook()
    book.remove(book.active)  # type: ignore[arg-type]
    for number, (title, rows) in enumerate(pages.items()):
        # A sheet's name holds 31 signs, none of these; two curves may be alike in what is left.
        name = "".join("_" if sign in "[]:*?/\\" else sign for sign in title)[:27]
        page = book.create_sheet(name if name not in book.sheetnames else f"{name[:24]} {number}")
        for row in rows:
            page.append(list(row))
    part = place.with_name(f".{place.name}.part")
    try:
        book.save(part)
        os.replace(part, place)
    finally:
        part.unlink(missing_ok=True)
