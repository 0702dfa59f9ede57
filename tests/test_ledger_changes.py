"""Sensors changed and retired: what stood there is kept, and nothing new rests on one that is out of use."""

from __future__ import annotations

import datetime
from pathlib import Path
from typing import Any

import pytest
import sqlalchemy as sa
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from lucid_anvil.cli import app
from lucid_anvil.core.errors import BadInput
from lucid_anvil.lab.entering import changes_from
from lucid_anvil.lab.ledger import Ledger, Sensor
from lucid_anvil.lab.planning import calibration_plan, reference_settings
from lucid_anvil.lab.shaker_planning import sensors_of
from lucid_anvil.rig.editing import plug

TODAY = datetime.date.today()


def test_a_change_keeps_who_when_and_what_was(demo_lab: Any) -> None:
    ledger = demo_lab.ledger()
    before = ledger.entry("GA-11")
    now = ledger.change("GA-11", "K.B.", "label was wrong", model="A2", nominal=9.9)
    assert (now.model, now.nominal) == ("A2", 9.9) and ledger.entry("GA-11").history == before.history
    (told,) = ledger.changes("GA-11")
    assert told.by == "K.B." and told.why == "label was wrong" and (datetime.datetime.now() - told.at).seconds < 60
    assert told.was == {"model": before.sensor.model, "nominal": before.sensor.nominal}
    ledger.change("GA-11", "K.B.", model="A2")  # nothing new: nothing noted
    assert len(ledger.changes("GA-11")) == 1
    for bad, why in (({"id": 7}, "no 'id'"), ({"colour": "red"}, "no 'colour'")):
        with pytest.raises(BadInput, match=why):
            ledger.change("GA-11", "K.B.", **bad)
    with pytest.raises(BadInput, match="initials"):
        ledger.change("GA-11", " ", model="A3")
    with pytest.raises(BadInput, match="did you mean|see `ledger list`"):
        ledger.change("GA-99", "K.B.", model="A3")


def test_nothing_new_rests_on_a_retired_sensor(demo_lab: Any) -> None:
    ledger = demo_lab.ledger()
    with pytest.raises(BadInput, match="say why"):
        ledger.retire("GA-02", "K.B.", " ", TODAY)
    traces = ledger.traces("GA-02")
    for serial in ("GA-02", "GA-11", "GA-07"):
        ledger.retire(serial, "K.B.", "dropped", TODAY)
    assert ledger.traces("GA-02") == traces
    with pytest.raises(BadInput, match="retired"):
        reference_settings(ledger.entry("GA-02"), TODAY)
    with pytest.raises(BadInput, match="GA-11: it is retired"):
        calibration_plan(demo_lab, "GA-11", today=TODAY)
    rig = demo_lab.folder / "rigs" / "shaker.rig.yaml"
    with pytest.raises(BadInput, match="retired"):
        plug(rig, 1, ledger.entry("GA-11").sensor)
    # A plan that is made of it finds it out of date on that day, whatever its certificate says.
    assert sensors_of(demo_lab, rig)["control"]["due"] == TODAY.isoformat()
    assert [e.sensor.serial for e in ledger.entries() if e.sensor.retired] == ["GA-02", "GA-07", "GA-11"]


def test_a_ledger_of_the_version_before_opens_and_reads_the_same(tmp_path: Path) -> None:
    place = tmp_path / "old.sqlite"
    ledger = Ledger(f"sqlite:///{place}")
    ledger.add(Sensor("S-1", "accelerometer", nominal=10.0))
    ledger.close()
    engine = sa.create_engine(f"sqlite:///{place}")
    with engine.begin() as link:  # as the version before left it
        link.execute(sa.text("drop table sensor_change"))
        link.execute(sa.text("alter table sensor drop column note"))
        link.execute(sa.text("alter table sensor drop column retired"))
        link.execute(sa.text("update alembic_version set version_num = '0002'"))
    engine.dispose()
    ledger = Ledger(f"sqlite:///{place}")
    assert ledger.entry("S-1").sensor == Sensor("S-1", "accelerometer", nominal=10.0)
    ledger.retire("S-1", "K.B.", "lost", TODAY)
    assert ledger.entry("S-1").sensor.retired == TODAY


def test_what_is_typed_of_a_sensor() -> None:
    sensor = Sensor("S-1", "accelerometer")
    made = changes_from(sensor, {"nominal": "98.1 mV/g", "interval": "", "tolerance": "5 %", "note": " cable short "})
    assert (made["interval_months"], made["tolerance"], made["note"]) == (None, 5.0, "cable short")
    assert (made["nominal"], made["unit"]) == (pytest.approx(98.1 / 9.80665), "mV/(m/s²)")
    for held, why in (
        ({"nominal": "10"}, "no unit"), ({"nominal": "-1 mV/g"}, "above zero"), ({"interval": "0"}, "months"),
        ({"use": "spare"}, "working or reference"), ({"retired": "soon"}, "no date"), ({"colour": "red"}, "no 'colour'"),
    ):  # fmt: skip
        with pytest.raises(BadInput, match=why):
            changes_from(sensor, held)


def test_at_the_command_line(tmp_path: Path, capsys: Any) -> None:
    lab = tmp_path / "north-quay"
    assert app(["lab", "new", str(lab), "--initials", "K.B."], standalone_mode=False) == 0
    here = ["--lab", str(lab)]
    app(["ledger", "add", "S-1", "--nominal", "10 mV/(m/s²)", *here], standalone_mode=False)
    app(["ledger", "change", "S-1", "model=A2", "tolerance=5 %", "--by", "K.B.", *here], standalone_mode=False)
    app(["ledger", "retire", "S-1", "--why", "lost", "--by", "K.B.", *here], standalone_mode=False)
    held = Ledger(f"sqlite:///{lab / 'ledger.sqlite'}").entry("S-1").sensor
    assert (held.model, held.tolerance, held.retired) == ("A2", 5.0, TODAY)
    with pytest.raises(BadInput, match="KEY=VALUE"):
        app(["ledger", "change", "S-1", "model", "--by", "K.B.", *here], standalone_mode=False)
    with pytest.raises(BadInput, match="not empty"):
        app(["lab", "new", str(lab)], standalone_mode=False)


def test_in_the_window(window: Any, demo_lab: Any) -> None:
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
    from lucid_anvil.desktop.ledger_rows import natural

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
