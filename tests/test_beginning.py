"""From an empty folder, in the window: a lab, a sensor, and a certificate from elsewhere."""

from __future__ import annotations

import datetime
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QComboBox, QLineEdit, QPlainTextEdit
from tests.test_desktop import leave

from lucid_anvil.cli import app
from lucid_anvil.core.errors import BadInput
from lucid_anvil.desktop.parts.forms import Sheet
from lucid_anvil.desktop.shell.beginning import BeginningWindow
from lucid_anvil.desktop.shell.window import MainWindow
from lucid_anvil.lab.beginning import begin_lab, lately, prefix_of, remember
from lucid_anvil.lab.elsewhere import calibration_from, keep_paper, points_from
from lucid_anvil.lab.ledger import Sensor
from lucid_anvil.lab.place import Lab, open_lab

UNIT = "mV/(m/s²)"
FREQUENCIES = [round(float(f), 1) for f in np.geomspace(10, 8000, 30)]
TABLE = "Frequency [Hz]\tSensitivity [mV/(m/s²)]\tU [%]\n" + "\n".join(
    f"{f}\t{10 + k / 100:.2f}\t{0.4 if f < 1000 else 0.7}" for k, f in enumerate(FREQUENCIES)
)


def fill(sheet: Any, values: dict[str, str]) -> None:
    """Type into fields as a person does; a table is pasted."""
    for key, text in values.items():
        box = sheet.fields.boxes[key]
        if isinstance(box, QComboBox):
            box.setCurrentText(text)
        elif isinstance(box, QPlainTextEdit):
            box.setPlainText(text)
        else:
            assert isinstance(box, QLineEdit)
            box.selectAll()
            QTest.keyClicks(box, text)


def filled(values: dict[str, str], then: list[str]) -> None:
    """Fills the sheet that is open and presses its key; what it refuses goes into `then`, and is mended by the values
    under "mended:" names."""
    sheet = QApplication.activeModalWidget()
    assert isinstance(sheet, Sheet)
    fill(sheet, {k: v for k, v in values.items() if not k.startswith("mended:")})
    QTest.mouseClick(sheet.yes, Qt.MouseButton.LeftButton)
    if sheet.isVisible():
        then.append(sheet.wrong.text())
        fill(sheet, {k.removeprefix("mended:"): v for k, v in values.items() if k.startswith("mended:")})
        QTest.mouseClick(sheet.yes, Qt.MouseButton.LeftButton)
    assert not sheet.isVisible(), sheet.wrong.text()


def begun(qtbot: Any, folder: Path) -> Lab:
    first = BeginningWindow(folder, [])
    qtbot.addWidget(first)
    made: list[Lab] = []
    first.begun.connect(made.append)
    QTest.mouseClick(first.go, Qt.MouseButton.LeftButton)
    assert not made and "name" in first.wrong.text() and not (folder / "lab.yaml").exists()
    fill(first, {"name": "North Quay Test Lab", "address": "Quay 3, Northhaven", "initials": "A.B."})
    QTest.keyClick(first.fields.boxes["initials"], Qt.Key.Key_Return)
    (lab,) = made
    return lab


def test_from_an_empty_folder_to_a_reference_with_its_certificate(qtbot: Any, tmp_path: Path) -> None:
    lab = begun(qtbot, tmp_path / "own")
    assert lab.facts.address == ["Quay 3", "Northhaven"] and lab.facts.certificate_prefix == "NQTL"
    window = MainWindow(lab)
    window.show()
    place = window.ledger
    assert place.name.text() == "No sensor yet" and not place.go.isVisible() and not place.history.isVisible()
    refused: list[str] = []
    QTest.mouseClick(place.new, Qt.MouseButton.LeftButton)
    filled({"serial": "R-1", "nominal": "10", "use": "reference", "mended:nominal": "98.1 mV/g"}, refused)
    assert len(refused) == 1 and "no unit" in refused[0]
    assert place.name.text() == "R-1" and place.value.text() == "never calibrated"
    assert not place.go.isEnabled() and "reference" in place.why_not.text()
    values = {"value": "10.02 mV/(m/s²)", "doubt": "0.6 %", "coverage": "3", "date": "2026-09-30", "lab": "Institute",
              "number": "77/26", "due": "2028-09-30", "table": "kHz; g\n1; 2", "mended:table": TABLE}  # fmt: skip
    QTest.mouseClick(place.paper, Qt.MouseButton.LeftButton)
    filled(values, refused)
    assert len(refused) == 2 and "line 1" in refused[1]
    (entry,) = open_lab(lab.folder).ledger().entries()
    held = entry.last
    assert held is not None and entry.sensor.use == "reference"
    assert (held.sensitivity, held.certificate, held.lab) == (10.02, "77/26", "Institute")
    assert held.uncertainty == pytest.approx(0.4) and held.due == datetime.date(2028, 9, 30)
    assert [p[0] for p in held.points or ()] == FREQUENCIES and (held.points or [])[29][2] == 0.7
    assert "10.02" in place.value.text()
    QTest.mouseClick(place.new, Qt.MouseButton.LeftButton)
    filled({"serial": "W-1", "nominal": "10 mV/(m/s²)"}, refused)
    assert place.name.text() == "W-1" and not place.go.isEnabled() and "no bench" in place.why_not.text()
    leave(window)


def test_a_lab_is_only_begun_where_nothing_is(tmp_path: Path) -> None:
    (tmp_path / "other.txt").write_text("x")
    with pytest.raises(BadInput, match="not empty"):
        begin_lab(tmp_path, "A", [], "B", False)
    with pytest.raises(BadInput, match="not empty"):
        app(["window", str(tmp_path)], standalone_mode=False)
    assert sorted(p.name for p in tmp_path.iterdir()) == ["other.txt"]
    with pytest.raises(BadInput, match="initials"):
        begin_lab(tmp_path / "new", "A", [], " ", False)
    assert not (tmp_path / "new").exists()
    lab = begin_lab(tmp_path / "new", "Practice", [], "K.B.", True)
    assert len(lab.ledger().entries()) > 5 and (lab.folder / "rigs" / "shaker.rig.yaml").exists()
    assert prefix_of("7 of 9") == "O"


def test_labs_lately_open_are_offered_and_open(qtbot: Any, tmp_path: Path) -> None:
    a, b = (begin_lab(tmp_path / n, n.upper(), [], "K.B.", False) for n in ("a", "b"))
    remember(a.folder)
    remember(b.folder)
    assert lately()[:2] == [b.folder, a.folder]
    (a.folder / "lab.yaml").unlink()
    assert a.folder not in lately()
    first = BeginningWindow(tmp_path / "c", [{"name": "Card", "inputs": 2, "outputs": 2}])
    qtbot.addWidget(first)
    opened: list[Lab] = []
    first.begun.connect(opened.append)
    assert first.known[0].title == "B"
    QTest.mouseClick(first.known[0], Qt.MouseButton.LeftButton)
    assert [x.folder for x in opened] == [b.folder]


@pytest.mark.parametrize(
    ("text", "word"),
    [
        ("20 10.0 0.5\n20 10.1 0.5", "one frequency"), ("20; nan; 0.5", "three numbers"), ("20 10.0", "three numbers"), ("-1 10 0.5", "above zero"),
        ("Hz; bananas; %\n1;2;3", "bananas"), ("20 10 0.5\nHz V %", "among the numbers"), ("", "no row"),
        ("Hz; mV/(m/s²); N\n1;2;3", "doubt is in 'N'"),
    ],
)  # fmt: skip
def test_a_table_that_is_not_understood_is_refused(text: str, word: str) -> None:
    with pytest.raises(BadInput, match=word):
        points_from(text, UNIT)


def test_tables_in_other_units_are_turned() -> None:
    (row,) = points_from("kHz; mV/g; mV/g\n0,02; 98,0665; 0,980665", UNIT)
    assert row == pytest.approx((20.0, 10.0, 1.0))
    assert points_from("f; s; u\n100 10 1\n20 9 2", UNIT) == [(20.0, 9.0, 2.0), (100.0, 10.0, 1.0)]


@pytest.mark.parametrize(
    ("more", "word"),
    [({"value": "0 mV/(m/s²)"}, "above zero"), ({"value": "10"}, "no unit"), ({"doubt": "0.5"}, "no unit"),
     ({"doubt": "-1 %"}, "above zero"), ({"date": "soon"}, "no date"), ({"date": "2999-01-01"}, "not come"),
     ({"due": "2020-01-01"}, "before"), ({"lab": ""}, "laboratory"), ({"coverage": "9"}, "coverage")],
)  # fmt: skip
def test_a_certificate_that_can_not_be_is_refused(more: dict[str, str], word: str) -> None:
    good = {"value": "10 mV/(m/s²)", "date": "2026-01-02", "lab": "L", "number": "1", "doubt": "0.05 mV/(m/s²)"}
    made = calibration_from(Sensor("R", "accelerometer"), **good)
    assert made.uncertainty == pytest.approx(0.5)
    with pytest.raises(BadInput, match=word):
        calibration_from(Sensor("R", "accelerometer"), **{**good, **more})


def test_a_paper_is_kept_and_never_written_over(tmp_path: Path) -> None:
    lab = begin_lab(tmp_path / "lab", "A", [], "B", False)
    paper = tmp_path / "scan.PDF"
    for content in (b"one", b"two"):
        paper.write_bytes(content)
        keep_paper(lab, "77/26", paper)
    kept = sorted((lab.certificates / "elsewhere").iterdir())
    assert [p.read_bytes() for p in kept] == [b"two", b"one"] and [p.name for p in kept] == ["77-26-2.pdf", "77-26.pdf"]


def test_all_of_it_at_the_command_line_too(tmp_path: Path) -> None:
    lab, table = tmp_path / "lab", tmp_path / "points.txt"
    table.write_text(TABLE, encoding="utf-8")

    def run(*words: str) -> Any:
        return app(list(words), standalone_mode=False)

    assert run("begin", str(lab), "--name", "North Quay", "--initials", "A.B.", "--address", "Quay 3, Northhaven") == 0
    assert run("ledger", "add", "R-1", "--nominal", "10 mV/(m/s²)", "--lab", str(lab)) == 0
    given = ["ledger", "calibrate", "R-1", "--value", "10.02 mV/(m/s²)", "--date", "2026-09-30", "--laboratory", "Institute",
             "--number", "77/26", "--uncertainty", "0.4 %", "--table", str(table), "--lab", str(lab)]  # fmt: skip
    assert run(*given, "--paper", str(table)) == 0
    held = open_lab(lab).history("R-1")
    assert len(held) == 1 and len(held[0].points or ()) == 30 and held[0].uncertainty == pytest.approx(0.4)
    assert (lab / "certificates" / "elsewhere" / "77-26.txt").exists()
    table.write_text("20 10", encoding="utf-8")
    with pytest.raises(BadInput, match=r"points\.txt, line 1"):
        run(*given)
    assert len(open_lab(lab).history("R-1")) == 1
