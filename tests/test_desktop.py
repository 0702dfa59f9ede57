"""The real window, driven without a screen."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QImage
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication
from tests.conftest import SHORT

from lucid_anvil.contracts.finding import Curve, Finding, Reading
from lucid_anvil.core.signal.pyramid import envelope
from lucid_anvil.desktop.bench.new_test import NewTest
from lucid_anvil.desktop.parts import theme
from lucid_anvil.desktop.parts.asking import LineDialog
from lucid_anvil.desktop.parts.chart import Chart
from lucid_anvil.desktop.parts.empty_stage import Row
from lucid_anvil.desktop.parts.panels import corridor_rows, reading_row, room_text
from lucid_anvil.desktop.shell.window import MainWindow
from lucid_anvil.engine import launch
from lucid_anvil.lab.takes import Take
from lucid_anvil.protocol.messages import Board, CheckState, Room, board_from


def until(done: Callable[[], bool], timeout: float = 120.0) -> None:
    """Run the event loop until something is so."""
    end = time.monotonic() + timeout
    while time.monotonic() < end:
        QApplication.processEvents()
        if done():
            return
        time.sleep(0.01)
    raise AssertionError("it did not come about in time")


def leave(window: MainWindow) -> None:
    """Close the window, and end the run that it would leave alive."""
    until(lambda: window._bench is None or not window.bench.aside.open)
    until(lambda: not window.link.search.isActive())
    address = window.link.address
    window.link.drop()
    window.close()
    QApplication.sendPostedEvents(None, 52)  # deferred deletes
    QApplication.processEvents()
    if address is not None:
        with contextlib.suppress(OSError):
            launch.order(address, "stop", why="test over")
            launch.order(address, "close")


def begin(window: MainWindow, changes: dict[str, Any] | None = None) -> None:
    """From the ledger to a running bench, with the walk-round signed by clicks."""
    window.ledger.reload("GA-11")
    QTest.mouseClick(window.ledger.go, Qt.MouseButton.LeftButton)
    bench = window.bench
    until(lambda: bench.state == "walk-round" and bool(bench.walk.shown))
    bench.change({**SHORT, "insert": False, **(changes or {})})
    until(lambda: not bench.aside.open)

    def sign() -> bool:
        for i in range(bench.walk.rows.count()):
            row = bench.walk.rows.itemAt(i).widget()
            if row is not None and row.can_sign:
                QTest.mouseClick(row, Qt.MouseButton.LeftButton)
        return bench.walk.go.isEnabled()

    until(sign)
    QTest.mouseClick(bench.walk.go, Qt.MouseButton.LeftButton)
    until(lambda: bench.state == "running")


def test_the_ledger_shows_what_is_overdue_first(window: MainWindow) -> None:
    ledger = window.ledger
    assert [e.sensor.serial for e in ledger.model.rows[:3]] == ["GP-08", "GA-11", "GC-04"]
    assert "3 overdue" in ledger.summary.text()
    assert ledger.name.text() == "GP-08"
    ledger.reload("GA-11")
    assert ledger.name.text() == "GA-11"
    assert "overdue 9 d" in ledger.due.text()
    ledger.filter.choose("due")
    assert {e.sensor.serial for e in ledger.model.rows} == {"GP-08", "GA-11", "GC-04", "GM-03", "GA-07"}
    ledger.filter.choose("other")
    ledger.reload("GM-03")
    assert not ledger.go.isEnabled()
    ledger.filter.choose("all")
    QTest.keyClick(ledger.view, Qt.Key.Key_End)
    assert ledger.name.text() != "GA-11"


def test_from_the_ledger_to_the_certificate(window: MainWindow, demo_lab: Any) -> None:
    begin(window)
    bench = window.bench
    until(lambda: len(bench.kinds["comparison"].course.done) >= 2, 90)
    assert bench.panels.currentWidget() is bench.run
    assert bench.kinds["comparison"].stage.tabs.now == "deviation"
    assert "deviation" in bench.kinds["comparison"].stage.charts["deviation"].series
    assert "corridor-band" in bench.kinds["comparison"].stage.charts["deviation"].series
    assert [g.room.key for g in bench.run.guards if g.room] == [
        "drive", "current", "stroke", "overload", "control_lost", "supply", "disk",
    ]  # fmt: skip
    assert [t.key for t in bench.chain.tiles] == ["source", "amplifier", "shaker", "reference", "unit", "inputs"]
    until(lambda: bench.state == "done" and bench.finding is not None, 120)
    assert bench.kinds["comparison"].result.word.text() == "inside"
    assert "±" in bench.kinds["comparison"].result.value.text()
    assert "last calibration" in bench.kinds["comparison"].result.beside.text()
    bench.kinds["comparison"].point(160.0)
    assert bench.kinds["comparison"].stage.budget.title.text().startswith("160 Hz")
    assert "Largest" in bench.kinds["comparison"].stage.budget.largest.text()
    QTest.mouseClick(bench.kinds["comparison"].result.go, Qt.MouseButton.LeftButton)
    until(lambda: "Accepted" in window.strip.text())
    ledger = demo_lab.ledger()
    last = ledger.entry("GA-11").last
    assert last is not None
    assert last.by == "K.B."
    assert last.as_state == "as found"
    assert last.take == str(bench.take)
    assert not bench.kinds["comparison"].result.box.isVisible()
    pdf = demo_lab.certificates / f"{last.certificate}.pdf"
    assert pdf.exists()
    QTest.mouseClick(bench.kinds["comparison"].result.paper, Qt.MouseButton.LeftButton)
    folio = window.place("Folio")
    assert window.places.currentWidget() is folio
    until(lambda: folio.document.pageCount() >= 2)
    window.go("Lightbox")
    box = window.place("Lightbox")
    assert box.list.count() == 1
    box.tabs.choose("raw")
    until(lambda: {"reference", "unit", "drive"} <= set(box.raw.series), 30)  # a long record is indexed aside
    # After an adjustment the unit is run again, for the as-left values.
    window.go("Bench")
    QTest.mouseClick(bench.kinds["comparison"].result.rerun, Qt.MouseButton.LeftButton)
    until(lambda: bench.state == "walk-round")
    assert bench.prepared is not None
    assert bench.prepared.plan.as_state == "as left"


def test_f12_stops_from_anywhere(window: MainWindow) -> None:
    begin(window, {"dwell": "5 s"})
    bench = window.bench
    until(lambda: len(bench.kinds["comparison"].course.done) >= 1, 90)
    bench.make_mark()  # a dialog over the window, as when something is being noted down
    asked = QApplication.activeModalWidget()
    assert isinstance(asked, LineDialog) and bench.state == "running"
    QTest.keyClick(asked.line, Qt.Key.Key_F12)
    until(lambda: bench.state == "done", 60)
    assert QApplication.activeModalWidget() is None
    assert bench.take is not None
    take = Take(bench.take)
    assert take.status() == "cut"
    assert "operator" in (take.reason() or "")
    drive = take.recording().channel("drive").samples()
    assert np.max(np.abs(drive[-2048:])) == 0
    assert "operator" in bench.events.text()


def test_killed_window_leaves_the_run_and_the_next_one_picks_it_up(
    window: MainWindow, demo_lab: Any, qtbot: Any
) -> None:
    begin(window, {"dwell": "40 s"})  # longer than a window takes to come up, on a machine that has other things to do
    assert window.link.address is not None
    pid = window.link.address.pid
    take = window.bench.take
    window.link.drop()  # what a kill does: the line is gone without a word
    assert launch.alive(pid)
    second = MainWindow(demo_lab, pace="fast")
    second.show()
    until(lambda: second.bench.state == "running", 30)
    assert second.places.currentWidget() is second.bench
    assert second.bench.take == take
    until(lambda: len(second.bench.kinds["comparison"].course.done) >= 1, 90)
    second.bench.stop()
    until(lambda: second.bench.state == "done", 60)
    second.link.close_run()
    second.close()
    QApplication.processEvents()


def test_a_conductor_that_dies_is_told(window: MainWindow) -> None:
    begin(window, {"dwell": "20 s"})
    bench = window.bench
    until(lambda: len(bench.kinds["comparison"].course.done) >= 1, 90)
    assert window.link.address is not None
    os.kill(window.link.address.pid, signal.SIGKILL)
    until(lambda: bench.state == "done", 30)
    assert "run is gone" in window.strip.text()
    assert bench.panels.currentWidget() is bench.kinds["comparison"].result
    assert "interrupted" in bench.told.text()


def test_handles_change_the_plan_and_the_course(window: MainWindow) -> None:
    window.ledger.reload("GA-11")
    window.ledger.calibrate.emit("GA-11")
    bench = window.bench
    until(lambda: bench.state == "walk-round")
    steps = len(bench.kinds["comparison"].course.items)
    level = bench.kinds["comparison"].stage.level
    level.high.put(2100.0)
    assert "2k" in level.high.note.textItem.toPlainText()
    level.high.sigPositionChangeFinished.emit(level.high)
    until(lambda: not bench.aside.open)
    assert bench.prepared is not None
    assert bench.prepared.settings.stop == 2000.0
    assert len(bench.kinds["comparison"].course.items) == steps - 7
    level.level.put(5.3)
    level.level.sigPositionChangeFinished.emit(level.level)
    until(lambda: not bench.aside.open)
    assert bench.prepared.settings.level == pytest.approx(5.3)
    assert bench.prepared.settings.stop == 2000.0
    bench.kinds["comparison"].density.choose("1")
    until(lambda: not bench.aside.open)
    assert bench.prepared.settings.steps_per_octave == 1
    bench.kinds["comparison"].kind.choose("multisine")
    until(lambda: not bench.aside.open)
    assert bench.prepared.settings.excitation == "multisine"
    assert "all frequencies at once" in bench.told.text()


def test_begin_is_shut_until_all_is_done(window: MainWindow) -> None:
    walk = window.bench.walk
    done = CheckState("a", "Reference in date", "sensed", True, "fine")
    open_ = CheckState("b", "Cables tied down", "signed", False, "sign when you have done it")
    walk.show_checks([done, open_], "walk-round")
    assert not walk.go.isEnabled()
    assert "cables tied down" in walk.why.text()
    signed: list[tuple[str, str]] = []
    walk.sign.connect(lambda k, by: signed.append((k, by)))
    walk.initials.setText("")
    walk._sign("b")
    assert signed == []
    assert "initials" in walk.why.text()
    walk.initials.setText("M.O.")
    walk._sign("b")
    assert signed == [("b", "M.O.")]
    walk.show_checks([done, CheckState("b", "Cables", "signed", True, "signed by M.O.", "M.O.")], "walk-round")
    assert walk.go.isEnabled()
    walk.show_checks(walk.shown, "starting")
    assert not walk.go.isEnabled()


def test_readings_as_margins() -> None:
    inside = Reading("a", "A", 2.0, "%", 0.5, 2.0, low=-5.0, high=5.0, verdict="inside")
    assert reading_row(inside)[2:5] == (pytest.approx(0.4), pytest.approx(0.1), "inside")
    open_ = Reading("a", "A", 4.9, "%", 0.5, 2.0, low=-5.0, high=5.0, verdict="open")
    assert "can't be told" in reading_row(open_)[5]
    assert reading_row(Reading("a", "A", None, "%", valid=False, reason="struck", verdict="open"))[1].startswith("–")
    curve = Curve(
        "deviation", "", (10.0, 20.0, 30.0), (0.0, 4.9, None), "Hz", "%", (0.1, 0.5, None), 2.0, (-5.0,) * 3, (5.0,) * 3
    )
    row = corridor_rows(Finding("m", (), (curve,)))[0]
    assert row[1] == "1 of 3"
    assert row[4] == "open"
    assert room_text(Room("stroke", "Stroke", 0.5, 0.006, 0.012, "m", "cut"))[0] == "6.0 mm"
    assert room_text(Room("overload", "Input overload", 0.0, 0, 0.5, "", "cut"))[0] == "armed"
    assert room_text(Room("overload", "Input overload", 2.0, 1, 0.5, "", "cut"))[0] == "tripped"


def test_a_board_survives_the_wire() -> None:
    board = Board(
        state="running",
        rooms=[Room("drive", "Drive", 0.1, 0.5, 5.0, "V", "cut")],
        checks=[],
        points=[{"frequency": 1.0}],
    )
    held = json.loads(json.dumps(board.as_json()))
    held["something newer"] = 1
    assert board_from(held) == board


def test_chart_cursor_picture_and_table(qtbot: Any) -> None:
    chart = Chart("Hz", "%")
    qtbot.addWidget(chart)
    chart.resize(500, 300)
    chart.show()
    chart.curve("deviation", [10, 100, 1000], [0.0, None, 2.0], name="deviation")
    chart.whiskers("doubt", [10, 100, 1000], [0.0, None, 2.0], [0.1, None, 0.2])
    chart.corridor("corridor", [10, 1000], [-5, -5], [5, 5])
    chart.struck("struck", [100], [0.0])
    chart.show_cursor(900.0)
    assert "1000 Hz" in chart.readout.toPlainText()
    assert "deviation  2 %" in chart.readout.toPlainText()
    chart.copy_table()
    text = QApplication.clipboard().text()
    assert text.splitlines()[0] == "Hz\tdeviation [%]"
    assert text.splitlines()[3] == "1000.0\t2.0"
    chart.copy_picture()
    assert not QApplication.clipboard().pixmap().isNull()
    chart.drop("corridor", "deviation", "doubt", "struck")
    assert chart.series == {}


def test_envelope_keeps_every_peak() -> None:
    x = np.zeros(100_000)
    x[54_321], x[12_345] = 1.0, -1.0
    t, y = envelope(x, 500)
    assert (y.max(), y.min()) == (1.0, -1.0)
    assert t[np.argmax(y)] == pytest.approx(54_321, abs=200)
    assert np.array_equal(envelope(x[:100], 500)[1], x[:100])


def test_night_keeps_the_roles_and_nothing_is_white(window: MainWindow) -> None:
    day = theme.palette().teal
    window.night()
    try:
        assert theme.palette().teal != day
        picture: QImage = window.grab().toImage()
        assert picture.pixelColor(QPoint(20, 790)).lightness() < 80
    finally:
        window.night()
    assert theme.palette().teal == day


def test_words_are_not_cut_off_at_the_smallest_size(window: MainWindow) -> None:
    window.resize(window.minimumSize())
    for place in ("Ledger", "Bench", "Lightbox", "Folio"):
        window.go(place)
        QApplication.processEvents()
    stop = window.stop
    right = stop.mapTo(window, QPointF(stop.width(), 0)).x()
    assert right <= window.width()
    assert stop.fontMetrics().horizontalAdvance(stop.text()) < stop.width()


def test_empty_places_say_what_to_do(window: MainWindow) -> None:
    window.go("Bench")
    rows = window.bench.nothing.findChildren(Row)
    assert any("Calibrate" in r.title for r in rows) and any("Battery tray" in r.title for r in rows)
    # Neither a plot nor a course without a plan; and each row leads where it says.
    assert window.bench.stages.currentWidget() is window.bench.nothing and not window.bench.below.isVisible()
    QTest.keyClick(rows[0], Qt.Key.Key_Return)
    sheet = QApplication.activeModalWidget()
    assert isinstance(sheet, NewTest)  # the window itself stays awake behind it
    QTest.keyClick(sheet, Qt.Key.Key_Escape)
    until(lambda: QApplication.activeModalWidget() is None)
    QTest.keyClick(next(r for r in rows if "Calibrate" in r.title), Qt.Key.Key_Return)
    assert window.tabs["Ledger"].isChecked()
    window.go("Folio")
    assert "accept" in window.place("Folio").empty.text()
    window.go("Lightbox")
    assert "Run a plan" in window.place("Lightbox").empty.text()
    window.activateWindow()
    until(window.isActiveWindow)
    QTest.keyClick(window, Qt.Key.Key_F12)
    assert "nothing is being driven" in window.strip.text()
    window.bench.calibrate("GA-15")
    until(lambda: not window.bench.aside.open)
    assert "No rig has GA-15" in window.strip.text()


def test_closing_ends_a_walk_round_and_leaves_no_process(qapp: Any, demo_lab: Any) -> None:
    window = MainWindow(demo_lab, pace="fast")
    window.show()
    window.ledger.calibrate.emit("GA-11")
    until(lambda: window.bench.state == "walk-round")
    assert window.link.address is not None
    pid = window.link.address.pid
    window.close()
    until(lambda: not launch.alive(pid), 30)
    assert not any(Path(demo_lab.jobs).rglob("take-*"))
