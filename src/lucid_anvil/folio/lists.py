"""One list for many: a month's calibrations and papers, a paper's verdicts, as rows for a spreadsheet."""

from __future__ import annotations

import calendar
import datetime
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from ..core.errors import BadInput
from ..lab.papers import list_papers, load_paper, numbered
from ..lab.place import Lab
from .cards import reported

Row = tuple[Any, ...]
MONTH = ("date", "what", "number", "of", "as", "value", "unit", "U, k = 2, %", "signed by")
VERDICTS = ("take", "test", "article", "reading", "value", "U", "unit", "from", "to", "verdict", "reason")


def month_rows(lab: Lab, year: int, month: int) -> list[Row]:
    """A month's calibrations from the ledger and papers handed over, oldest first. Raises BadInput."""
    if not 1 <= month <= 12:
        raise BadInput(f"{year}-{month}: a month is wanted as in 2026-11.")
    first = datetime.date(year, month, 1)
    last = datetime.date(year, month, calendar.monthrange(year, month)[1])
    made: list[Row] = []
    ledger = lab.ledger()
    try:
        for entry in ledger.entries():
            for c in entry.history:
                if first <= c.date <= last:
                    made.append((c.date, "calibration", c.certificate or "", entry.sensor.serial, c.as_state or "",
                                 c.sensitivity, c.unit, c.uncertainty, c.by or ""))  # fmt: skip
    finally:
        ledger.close()
    for place in list_papers(lab):
        paper = load_paper(place)
        for issue in paper.issues:
            if first <= issue.date <= last:
                made.append((issue.date, "report", numbered(issue.number, issue.revision), paper.title, "", None, "",
                             None, issue.by))  # fmt: skip
    return sorted(made, key=lambda r: (r[0], str(r[2])))


def verdict_rows(lab: Lab, place: Path) -> list[Row]:
    """Every reading of every take of a paper, with its limits and verdict. Raises BadInput."""
    made: list[Row] = []
    for held, one in reported(lab, load_paper(place)).items():
        for missing in one.finding.missing:
            made.append((held, one.plan.title, one.plan.article, "not complete", None, None, "", None, None, "open",
                         missing))  # fmt: skip
        for r in one.finding.readings:
            verdict = r.verdict if r.valid else "open"
            made.append((held, one.plan.title, one.plan.article, r.label, r.value, r.uncertainty, r.unit, r.low, r.high,
                         verdict, r.reason or ""))  # fmt: skip
    return made


def write_list(head: Sequence[str], rows: Sequence[Row], place: Path) -> None:
    """Rows as .xlsx or .csv. Raises BadInput where the file is there already, or can't be written."""
    if place.exists():
        raise BadInput(f"{place}: it exists already: choose another name.")
    try:
        if place.suffix.lower() == ".xlsx":
            from openpyxl import Workbook

            book = Workbook(write_only=True)
            sheet = book.create_sheet("List")
            sheet.append(list(head))
            for row in rows:
                sheet.append([plain(v) if isinstance(v, str) else v for v in row])
            book.save(place)
        elif place.suffix.lower() == ".csv":
            import csv

            with place.open("x", encoding="utf-8", newline="") as file:
                writer = csv.writer(file)
                writer.writerow(head)
                writer.writerows([plain(v) if isinstance(v, str) else v for v in row] for row in rows)
        else:
            raise BadInput(f"{place}: a list is written as .xlsx or .csv.")
    except OSError as problem:
        raise BadInput(f"{place}: it can't be written ({problem.strerror}).") from None


def plain(text: str) -> str:
    """Text that no spreadsheet takes for a formula."""
    return f"'{text}" if text[:1] in ("=", "+", "@", "\t", "\r") or text[:2] in ("-=", "-+") else text
