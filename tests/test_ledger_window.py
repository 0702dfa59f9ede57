"""The Ledger in the window: what is entered, changed, retired, sorted and photographed there."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication


def test_a_sensor_is_changed_and_retired(window: Any, demo_lab: Any) -> None:
    place = window.ledger
    QTest.keyClicks(place.search, "microphone")
    assert {e.sensor.kind for e in place.model.rows} == {"microphone"}
    place.search.clear()
    place.reload("GA-15")
    QTest.mouseClick(place.edit, Qt.MouseButton.LeftButton)
    sheet = QApplication.activeModalWidget()
    sheet.fields.boxes["tolerance"].setText("3")
    sheet.fields.boxes["note"].setText("thread worn")
    sheet.fields.boxes["interval"].setText("soon")
    sheet.done_with()
    assert "no number of months" in sheet.wrong.text()
    sheet.fields.boxes["interval"].setText("24")
    sheet.done_with()
    assert place.chosen.sensor.note == "thread worn" and place.chosen.sensor.interval_months == 24
    QTest.mouseClick(place.end, Qt.MouseButton.LeftButton)
    sheet = QApplication.activeModalWidget()
    sheet.fields.boxes["why"].setText("dropped")
    sheet.done_with()
    assert "Retired on" in place.why_not.text() and not place.go.isEnabled() and "retired" in place.due.text()
    assert any("dropped" in t for t in place.changed["GA-15"])


def test_an_instrument_with_its_certificate_and_photo(window: Any, demo_lab: Any, tmp_path: Path) -> None:
    from PyQt6.QtGui import QImage

    from lucid_anvil.lab.photos import photos_of

    place = window.ledger
    QTest.mouseClick(place.new, Qt.MouseButton.LeftButton)
    sheet = QApplication.activeModalWidget()
    for key, text in (("serial", "W 2/7"), ("nominal", "2000 g"), ("use", "reference")):
        box = sheet.fields.boxes[key]
        box.setCurrentText(text) if hasattr(box, "setCurrentText") else box.setText(text)
    sheet.fields.boxes["kind"].setCurrentText("weight")
    sheet.done_with()
    place.filter.choose("instrument")
    assert [e.sensor.serial for e in place.model.rows] == ["W 2/7"] and place.chosen.sensor.unit == "kg"
    QTest.mouseClick(place.paper, Qt.MouseButton.LeftButton)
    sheet = QApplication.activeModalWidget()
    for key, text in (("value", "2.00003 kg"), ("doubt", "0.02 g"), ("date", "2026-05-04"), ("lab", "Fell Metrology"),
                      ("number", "FM-77")):  # fmt: skip
        sheet.fields.boxes[key].setText(text)
    sheet.done_with()
    assert sheet.wrong.text() == ""
    held = demo_lab.ledger().entry("W 2/7").last
    assert held.frequency is None and held.uncertainty == pytest.approx(0.001, rel=1e-3)
    assert place.value.text() == "2.000030 kg"
    # A photo is a copy in the lab; what is no picture is refused, and nothing is written over.
    red = QImage(320, 200, QImage.Format.Format_RGB32)
    red.fill(0xFFAA0000)
    red.save(str(tmp_path / "weight.png"))
    (tmp_path / "torn.png").write_bytes((tmp_path / "weight.png").read_bytes()[:8])
    place.add_photo(tmp_path / "torn.png")
    assert "can't be read as a picture" in place.why_not.text() and place.photo.isHidden()
    place.add_photo(tmp_path / "weight.png")
    place.add_photo(tmp_path / "weight.png")
    assert [p.name for p in photos_of(demo_lab, "W 2/7")] == ["001.png", "002.png"]
    assert photos_of(demo_lab, "W 27") == [] and not place.photo.isHidden()
    colour = place.photo.grab().toImage().pixelColor(60, 40)
    assert colour.red() > 150 and colour.green() < 30
    QTest.mouseClick(place.photo, Qt.MouseButton.LeftButton)
    large = QApplication.activeModalWidget()
    assert "2 of 2" in large.words.text()
    QTest.keyClick(large, Qt.Key.Key_Left)
    assert "1 of 2" in large.words.text()
    large.close()


def test_rows_stand_in_the_order_that_is_wanted(window: Any) -> None:
    from lucid_anvil.desktop.ledger.ledger_rows import natural

    place = window.ledger
    place.sort_by("serial")
    serials = [e.sensor.serial for e in place.model.rows]
    assert serials == sorted(serials, key=natural) and natural("GA-9") < natural("GA-11") < natural("GB-1")
    place.sort_by("kind")
    kinds = [e.sensor.kind for e in place.model.rows]
    assert kinds == sorted(kinds)
    place.sort_by("drift")
    drifts = [abs(e.drift or 0.0) for e in place.model.rows]
    assert drifts == sorted(drifts, reverse=True) and drifts[0] > drifts[-1]
    place.sort_by("calibrated")
    days = [e.last.date for e in place.model.rows if e.last]
    assert days == sorted(days, reverse=True)
    place.sort_by("due")
    first = place.model.rows[0]
    assert first.due == min(e.due for e in place.model.rows if e.due and e.sensor.retired is None)
    assert place.sorted.text() == "By due"
