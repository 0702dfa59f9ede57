"""Findings as tables for others."""

from __future__ import annotations

import csv
from pathlib import Path

import pytest

from lucid_anvil.cli import app
from lucid_anvil.contracts.finding import Curve, Finding, Reading
from lucid_anvil.core.errors import BadInput
from lucid_anvil.lab.exporting import export

FINDING = Finding(
    "impact-response",
    (Reading("level", "Level, rms", 1 / 3, "V", 0.01, 2.0, low=0.1, high=0.5, verdict="inside"),
     Reading("thd", "Distortion; all", None, "%", valid=False, reason="no tone, nothing")),
    (Curve("frf/a", "Response", (1.0, 2.0), (0.1, None), "Hz", "m/s²", low=(0.0, 0.0)),
     Curve("frf:a", "Other", (1.0,), (2.0,), "Hz", "V")),
    notes=('a note, with a "quote"',), missing=("step 3: not begun",),
)  # fmt: skip


def test_a_csv_holds_every_figure_in_full(tmp_path: Path) -> None:
    place = tmp_path / "out.csv"
    export(FINDING, place, [("take", "take-001")])
    rows = list(csv.reader(place.open(encoding="utf-8")))
    assert ["missing", "step 3: not begun"] in rows and ["note", 'a note, with a "quote"'] in rows
    level = next(r for r in rows if r[:1] == ["level"])
    assert float(level[2]) == 1 / 3 and level[3:6] == ["V", "0.01", "2.0"] and level[8:11] == ["0.1", "0.5", "inside"]
    thd = next(r for r in rows if r[:1] == ["thd"])
    assert thd[2] == "" and thd[11:] == ["False", "no tone, nothing"]
    head = rows.index(["x [Hz]", "Response [m/s²]", "low [m/s²]"])
    assert rows[head + 1 : head + 3] == [["1.0", "0.1", "0.0"], ["2.0", "", "0.0"]]


def test_an_xlsx_has_a_page_a_curve(tmp_path: Path) -> None:
    from openpyxl import load_workbook

    place = tmp_path / "out.xlsx"
    export(FINDING, place)
    book = load_workbook(place)
    assert book.sheetnames == ["Readings", "frf_a", "frf_a 2"]
    assert [c.value for c in book["frf_a"][2]] == [1, 0.1, 0] and book["frf_a"]["B3"].value is None
    assert any(row[0].value == "level" and row[2].value == 1 / 3 for row in book["Readings"])


def test_nothing_is_written_over_and_other_endings_are_refused(tmp_path: Path) -> None:
    place = tmp_path / "out.csv"
    place.write_text("mine")
    with pytest.raises(BadInput, match="exists already"):
        export(FINDING, place)
    with pytest.raises(BadInput, match="csv or .xlsx"):
        export(FINDING, tmp_path / "out.pdf")
    with pytest.raises(BadInput, match="can't be written"):
        export(FINDING, tmp_path / "no" / "where.csv")
    assert place.read_text() == "mine"
    with pytest.raises(BadInput, match="not a take"):
        app(["export", str(tmp_path), str(tmp_path / "b.csv")], standalone_mode=False)
