"""Limits typed in a table, and a walk-round's lines changed."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QImage
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication
from tests.test_desktop import until

from lucid_anvil.contracts import registry
from lucid_anvil.contracts.finding import Finding, Reading
from lucid_anvil.core.errors import BadInput
from lucid_anvil.desktop.parts.limits_sheet import limitable, limits_typed
from lucid_anvil.desktop.parts.photo import Large
from lucid_anvil.lab.textfiles import load_yaml
from lucid_anvil.lab.walkrounds import as_text, from_text

CHECKS = [
    {"key": "supply", "text": "Bias voltage", "sense": "supply"}, {"key": "bolts", "text": "Bolts torqued"},
    {"key": "noise", "text": "Noise floor", "sense": "noise"},
]  # fmt: skip


def test_readings_that_can_be_limited() -> None:
    method = registry.get("random-vibration")
    made = {k: (w, u) for k, w, u in limitable(method, None, {"mine": {}})}
    assert made["in_tolerance"] == ("Share of the analysis lines within tolerance", "%") and made["mine"] == (
        "mine",
        "",
    )
    assert not any(k != k.lower() for k in made)
    seen = Finding(method.name, (Reading("rms", "Control", 3.0, "m/s²"), Reading("row_1_x", "Row", 1.0, "V")))
    made = {k: (w, u) for k, w, u in limitable(method, seen, {})}
    assert made["rms"] == ("Control", "m/s²") and made["row_1_x"] == ("Row", "V")


def test_limits_as_they_are_typed() -> None:
    rows = [("a", "m/s²", "10", "2 g"), ("b", "%", "", "−5"), ("c", "", "3", ""), ("d", "V", "", "")]
    assert limits_typed([(*r, "", "") for r in rows]) == {"a": {"low": "10 m/s²", "high": "2 g"}, "b": {"high": "-5 %"}, "c": {"low": 3.0}}
    for row, why in (
        (("a", "m/s²", "3 g", "1"), "exchange"),
        (("a", "V", "3 N", ""), "a, low"),
        (("a", "V", "x", ""), "x"),
    ):
        with pytest.raises(BadInput, match=why):
            limits_typed([(*row, "", "")])


def test_a_walk_round_as_lines() -> None:
    text = as_text(CHECKS)
    assert text == "sensed: Bias voltage\nBolts torqued\nsensed: Noise floor"
    assert from_text(text, CHECKS) == CHECKS
    made = from_text("Ear protection on\nsensed: Noise floor\nsensed: Supply of the sensors\n\nBolts torqued", CHECKS)
    assert [c["key"] for c in made] == ["ear-protection-on", "noise", "supply", "bolts"]
    assert made[2] == {"key": "supply", "text": "Supply of the sensors", "sense": "supply"} and "sense" not in made[0]
    for bad, why in (
        ("", "a line at least"),
        (f"{text}\nsensed: more", "nothing more is sensed"),
        ("Bolts torqued\nBolts torqued", "twice"),
    ):
        with pytest.raises(BadInput, match=why):
            from_text(bad, CHECKS)


def test_both_in_the_window(window: Any, demo_lab: Any, tmp_path: Path) -> None:
    place = demo_lab.jobs / "0412" / "battery-tray" / "random" / "random.plan.yaml"
    window.go("Bench")
    bench = window.bench
    bench.open_plan(place)
    until(lambda: bench.plan_file == place and bench.state == "walk-round" and bool(bench.walk.shown))
    before = place.read_text()
    bench.editing.show()
    bench.editing.sheet.rows["limits"].edit.click()
    until(lambda: not bench.aside.open)
    sheet = QApplication.activeModalWidget()
    at = next(i for i, (key, _, _) in enumerate(sheet.rows) if key == "in_tolerance")
    sheet.table.item(at, 2).setText("99 V")
    sheet.done_with()
    assert "in_tolerance" in sheet.wrong.text()
    sheet.table.item(at, 2).setText("99")
    sheet.done_with()
    until(lambda: not bench.aside.open)
    assert bench.prepared.settings.limits["in_tolerance"] == {"low": "99 %"}
    bench.walk.edit.emit()
    sheet = QApplication.activeModalWidget()
    box = sheet.fields.boxes["lines"]
    box.setPlainText("Lid of the tray shut\n" + box.toPlainText())
    sheet.done_with()
    until(lambda: not bench.aside.open)
    assert load_yaml(place)["walk_round"][0] == {"key": "lid-of-the-tray-shut", "text": "Lid of the tray shut"}
    until(lambda: bench.walk.shown[0].text == "Lid of the tray shut")
    # A photo of how it should look: kept with the plan, shown in its row, large with a click, gone again.
    seen = tmp_path / "lid.png"
    picture = QImage(80, 60, QImage.Format.Format_RGB32)
    picture.fill(0x0D6E6E)
    picture.save(str(seen))
    bench.editing.put_photo("lid-of-the-tray-shut", seen)
    until(lambda: not bench.aside.open)
    assert load_yaml(place)["walk_round"][0]["photo"] == "photos/001.png"

    def row() -> Any:
        return bench.walk.rows.itemAt(0).widget()

    until(lambda: bench.walk.shown != [] and not row().shown.isNull())
    QTest.mouseClick(row(), Qt.MouseButton.LeftButton, pos=row().frame.center().toPoint())
    assert isinstance(QApplication.activeModalWidget(), Large)
    QApplication.activeModalWidget().reject()
    assert not bench.walk.shown[0].done
    bench.editing.walk_round_menu("lid-of-the-tray-shut", QPoint(10, 10))
    assert [a.text() for a in bench.editing.menu.actions()] == ["A photo of how it should look…", "Without its photo"]
    bench.editing.menu.actions()[1].trigger()
    until(lambda: not bench.aside.open)
    assert "photo" not in load_yaml(place)["walk_round"][0]
    until(lambda: bench.walk.shown != [] and row().shown.isNull())
    for _ in range(2):
        bench.editing.undo()
        until(lambda: not bench.aside.open)
    bench.editing.undo()
    until(lambda: not bench.aside.open)
    bench.editing.undo()
    until(lambda: not bench.aside.open)
    assert place.read_text() == before
