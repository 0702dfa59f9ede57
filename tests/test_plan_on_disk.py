"""A plan that is edited elsewhere while a window shows it: taken up, asked about where both sides changed, never lost."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from lucid_anvil.lab.editing import put
from lucid_anvil.lab.textfiles import load_yaml
from test_desktop import until
from test_settings_sheet import opened


@pytest.fixture
def place(demo_lab: Any) -> Path:
    made = Path(demo_lab.jobs / "0412" / "mooring-plate" / "impact" / "impact.plan.yaml")
    put(made, ("trigger",), "20 N")
    return made


def rewrite(place: Path, old: str, new: str) -> None:
    """As an editor does it: another file in its place."""
    text = place.read_text(encoding="utf-8")
    assert old in text
    (place.parent / "part.tmp").write_text(text.replace(old, new), encoding="utf-8")
    (place.parent / "part.tmp").rename(place)


def trigger_of(place: Path) -> str:
    return str(load_yaml(place)["steps"][0]["settings"]["trigger"])


def quiet(bench: Any) -> None:
    until(lambda: not bench.aside.open and not bench.editing.working)


def test_what_an_editor_wrote_is_taken_up_and_can_be_taken_back(window: Any, place: Path) -> None:
    bench = opened(window, place)
    said: list[str] = []
    bench.said.connect(said.append)
    was = trigger_of(place)
    rewrite(place, f"trigger: {was}", "trigger: 31 N")
    until(lambda: bench.prepared.settings.trigger == 31.0)
    assert any("impact.plan.yaml was changed on disk: taken up" in t for t in said)
    until(lambda: not window.link.latest.unread)  # the run in waiting has it too
    bench.editing.undo()
    quiet(bench)
    assert trigger_of(place) == was and bench.prepared.settings.trigger != 31.0
    bench.editing.redo()
    quiet(bench)
    assert trigger_of(place) == "31 N"


def test_what_can_not_be_run_shuts_begin_until_it_can(window: Any, place: Path) -> None:
    bench = opened(window, place)
    said: list[str] = []
    bench.said.connect(said.append)
    rewrite(place, "trigger:", "triger:")
    until(lambda: any("can't be run" in t and "triger" in t for t in said))
    until(lambda: "triger" in bench.walk.why.text())
    assert not bench.walk.go.isEnabled()
    assert "triger" in place.read_text()  # what somebody wrote stays: it is theirs to mend
    rewrite(place, "triger:", "trigger:")
    until(lambda: "triger" not in bench.walk.why.text())


@pytest.mark.parametrize("mine", [True, False])
def test_both_sides_are_asked_about(window: Any, place: Path, mine: bool) -> None:
    bench = opened(window, place)
    bench.editing.timer.stop()  # the window has not looked yet
    was = trigger_of(place)
    rewrite(place, f"trigger: {was}", "trigger: 31 N")
    before = place.read_text(encoding="utf-8")
    row = bench.editing.sheet.rows["estimator"]
    had = bench.prepared.settings.estimator
    row.box.setText("H2")
    row.box.editingFinished.emit()
    until(lambda: QApplication.activeModalWidget() is not None)
    asked = QApplication.activeModalWidget()
    assert place.read_text(encoding="utf-8") == before  # nothing is written before the answer
    QTest.mouseClick(asked.second if mine else asked.first, Qt.MouseButton.LeftButton)
    quiet(bench)
    until(lambda: bench.prepared.settings.trigger == 31.0)
    assert trigger_of(place) == "31 N"
    assert bench.prepared.settings.estimator == ("H2" if mine else had != "H2" and had)
    bench.editing.undo()
    quiet(bench)
    assert trigger_of(place) == ("31 N" if mine else was)


def test_changes_that_come_quickly_are_made_one_after_the_other(window: Any, place: Path) -> None:
    bench = opened(window, place)
    before = place.read_text(encoding="utf-8")
    for key, text in (("trigger", "21 N"), ("hits", "5"), ("trigger", "22 N")):
        row = bench.editing.sheet.rows[key]
        row.box.setText(text)
        row.box.editingFinished.emit()
    quiet(bench)
    assert bench.prepared.settings.trigger == 22.0 and bench.prepared.settings.hits == 5
    for _ in range(3):
        bench.editing.undo()
        quiet(bench)
    assert place.read_text(encoding="utf-8") == before


def test_not_while_somebody_types(window: Any, place: Path) -> None:
    bench = opened(window, place)
    box = bench.editing.sheet.rows["trigger"].box
    window.activateWindow()
    box.setFocus()
    QTest.keyClicks(box, "1")
    rewrite(place, "trigger: 20 N", "trigger: 31 N")
    typed = box.text()
    bench.editing.look()
    assert not bench.editing.working and box.text() == typed and bench.prepared.settings.trigger == 20.0
    # What was typed is finished: both sides changed it, and that is asked about.
    QTest.keyClick(box, Qt.Key.Key_Return)
    until(lambda: QApplication.activeModalWidget() is not None)
    QTest.keyClick(QApplication.activeModalWidget(), Qt.Key.Key_Escape)
    quiet(bench)
    until(lambda: bench.prepared.settings.trigger == 31.0)
    assert trigger_of(place) == "31 N"


def test_what_this_window_writes_elsewhere_is_its_own(window: Any, demo_lab: Any) -> None:
    """A sensor changed on its tile goes into the plan beside the settings' sheet: nobody else's change."""
    from test_shaker_window import quick_plan

    place = quick_plan(demo_lab, "sine")
    window.go("Bench")
    bench = window.bench
    bench.open_plan(place)
    until(lambda: bench.plan_file == place and bench.state == "walk-round")
    said: list[str] = []
    bench.said.connect(said.append)
    bench.kinds["shaker"].swap("control", "GA-02")
    until(lambda: not bench.aside.open)
    bench.editing.stamps = ()
    bench.editing.look()
    assert not bench.editing.working and not any("changed on disk" in t for t in said)
    rewrite(place, "GA-02", "GA-07")
    until(lambda: any("changed on disk" in t for t in said))


def test_a_change_under_way_when_another_plan_is_opened_ends_nothing(window: Any, place: Path, demo_lab: Any) -> None:
    bench = opened(window, place)
    said: list[str] = []
    bench.said.connect(said.append)
    rewrite(place, "trigger: 20 N", "trigger: 31 N")
    bench.editing._take_up()
    other = demo_lab.jobs / "0412" / "battery-tray" / "random" / "random.plan.yaml"
    for _ in range(2):
        row = bench.editing.sheet.rows["hits"]
        row.box.setText("6")
        row.box.editingFinished.emit()
    bench.plan_file = other
    bench.editing.watch()
    until(lambda: not bench.aside.open)
    assert not bench.editing.working and not bench.editing.asked and not any("changed on disk" in t for t in said)
