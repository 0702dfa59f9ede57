"""One part after the other: typed or scanned, judged in a word, counted."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from lucid_anvil.contracts.finding import Reading
from lucid_anvil.desktop.parts.panels import reading_row, share_of
from lucid_anvil.engine.newplan import begin_plan
from lucid_anvil.lab.editing import put
from lucid_anvil.lab.takes import Take
from test_desktop import until


@pytest.fixture
def plan(demo_lab: Any) -> Path:
    place = demo_lab.jobs / "0412" / "fog-driver" / "own" / "own.plan.yaml"
    made = begin_plan("driver-check", demo_lab.folder / "rigs" / "driver.rig.yaml", "Fog driver", place, lab=demo_lab)
    put(made, ("limits",), {"polarity": {"low": "1", "high": "1"}})
    put(made, ("play", "seconds"), "0.5 s")
    return Path(made)


def put_on(rig: Path, more: str) -> None:
    """Another part on the stand-in's place."""
    text = rig.read_text(encoding="utf-8")
    head, _, rest = text.partition("scene: {kind: driver")
    rig.write_text(f"{head}scene: {{kind: driver{more}}}{rest.partition('}')[2]}", encoding="utf-8")


def test_parts_are_judged_one_after_the_other(window: Any, demo_lab: Any, plan: Path) -> None:
    bench, rig = window.bench, demo_lab.folder / "rigs" / "driver.rig.yaml"
    window.go("Bench")
    bench.menus.open_line(plan)
    sheet = QApplication.activeModalWidget()
    sheet.fields.boxes["by"].setText("")
    sheet.done_with()
    assert "initials" in sheet.wrong.text()
    sheet.fields.boxes["by"].setText("L.N.")
    sheet.done_with()
    face = bench.line
    assert "signed for the shift by L.N." in face.title.text() and face.tally.text() == ""
    QTest.keyClick(face.line, Qt.Key.Key_Return)
    assert not face.under_way  # nobody was scanned
    face.line.setText("FD-1")
    QTest.keyClick(face.line, Qt.Key.Key_Return)
    until(lambda: face.begun)
    first = bench.take
    # The next one is scanned meanwhile, and goes on by itself; it is reversed.
    put_on(rig, ", reversed: on")
    QTest.keyClicks(face.line, "FD-2")
    QTest.keyClick(face.line, Qt.Key.Key_Return)
    until(lambda: face.count["outside"] == 1)
    assert Take(first).finding().verdict == "inside" and face.count == {"inside": 1, "outside": 1}
    assert face.big.word == "Fault" and face.why.text() == "FD-2\nPolarity: −1, wanted 1"
    assert face.tally.text() == "2 judged · 1 good · yield 50 %"
    take = Take(bench.take)
    assert take.plan().article == "FD-2" and take.folder.parent.parent.name == "fd-2"
    begun = next(e for e in take.events() if e["kind"] == "begin")
    assert {c["by"] for c in begun["checks"] if c["kind"] == "signed"} == {"L.N."}
    assert face.geometry() == bench.rect()
    QTest.keyClick(face, Qt.Key.Key_Escape)
    assert bench.line is None and face.isHidden()


def test_a_part_whose_run_is_stopped_is_neither_good_nor_bad(window: Any, demo_lab: Any, plan: Path) -> None:
    bench = window.bench
    put(plan, ("play", "seconds"), "20 s")
    bench.menus.open_line(plan)
    QApplication.activeModalWidget().done_with()
    face = bench.line
    face.line.setText("FD-9")
    QTest.keyClick(face.line, Qt.Key.Key_Return)
    until(lambda: bench.state == "running")
    bench.link.order("stop", why="stopped by the operator (F12)")
    until(lambda: not face.under_way)
    assert face.big.word == "Stopped" and "F12" in face.why.text() and face.tally.text() == ""
    face.leave()


def test_a_part_that_can_not_begin_leaves_nobody_waiting(window: Any, demo_lab: Any, plan: Path) -> None:
    bench = window.bench
    bench.menus.open_line(plan)
    QApplication.activeModalWidget().done_with()
    face = bench.line
    rig = demo_lab.folder / "rigs" / "driver.rig.yaml"
    rig.write_text(rig.read_text(encoding="utf-8").replace("block: 512", "block: 5"), encoding="utf-8")
    face.line.setText("FD-3")
    QTest.keyClick(face.line, Qt.Key.Key_Return)
    until(lambda: not face.under_way, 30)
    assert face.big.word == "Can't begin" and "block" in face.why.text() and face.tally.text() == ""
    face.leave()


@pytest.mark.parametrize(("value", "used"), [(1.0, 1.0), (-1.0, 2.0)])
def test_a_limit_without_any_width_has_no_room(value: float, used: float) -> None:
    row = reading_row(Reading("polarity", "Polarity", value, "", 0.0, low=1.0, high=1.0, verdict="inside"))
    assert row[2] == used and row[3] == 0.0
    assert share_of(0.5, 2.0) == 0.25
