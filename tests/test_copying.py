"""Any table copied as it is, and a letter on whatever can be pressed."""

from __future__ import annotations

from typing import Any

import numpy as np
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QListWidget, QMenu, QPushButton, QTableWidget, QTableWidgetItem
from tests.test_desktop import until

from lucid_anvil.contracts.finding import Finding, Reading
from lucid_anvil.desktop.bench.run_result import RunResult
from lucid_anvil.desktop.bench.stretch_view import StretchView
from lucid_anvil.desktop.bench.walk_panel import CheckRow
from lucid_anvil.desktop.lightbox.readings_panel import ReadingsPanel
from lucid_anvil.desktop.lightbox.series_view import SeriesView
from lucid_anvil.desktop.parts.chart import Chart
from lucid_anvil.desktop.parts.copying import as_text, copy_here, table_of
from lucid_anvil.desktop.parts.docket import PlanRow
from lucid_anvil.desktop.parts.panels import Margin
from lucid_anvil.desktop.shell.letters import Letters, names, pressable
from lucid_anvil.domains.amplifier.window.sheet_view import SheetView
from lucid_anvil.domains.comparison.window.budget_view import BudgetView
from lucid_anvil.domains.shaker.window.profile_chart import ProfileChart
from lucid_anvil.lab.specimens import series

FINDING = Finding("sine-sweep", (
    Reading("peak", "Peak", 3.0123456789, "m/s²", 0.02, 2.0, low=2.9, high=3.1, verdict="inside"),
    Reading("lost", "Lost", None, "m/s²", valid=False, reason="two\tlines\nof it"),
))  # fmt: skip


def test_cells_are_whole_numbers_and_no_text_breaks_the_table() -> None:
    text = as_text([("a", "b"), (0.1 + 0.2, None), (np.float64(1e-7), True), ("x\ty\nz", 3)])
    assert text == "a\tb\n0.30000000000000004\t\n1e-07\tyes\nx y z\t3"


def test_readings_are_copied_unrounded_wherever_they_stand(qapp: Any) -> None:
    for shown in (ReadingsPanel(), RunResult()):
        assert table_of(shown) == ()
        shown.show_finding(FINDING, *(() if isinstance(shown, ReadingsPanel) else (None, False)))
        # A row of it is enough to point at.
        head, peak, lost = as_text(table_of(shown.findChildren(Margin)[0])).split("\n")
        assert head.startswith("key\treading\tvalue\tunit\tuncertainty")
        assert peak.startswith("peak\tPeak\t3.0123456789\tm/s²\t0.02\t2.0") and "\tinside\tyes" in peak
        assert lost.endswith("\tno\ttwo lines of it")


def test_series_sheets_budgets_and_curves_are_tables(qapp: Any) -> None:
    beside = SeriesView()
    assert table_of(beside) == ()
    beside.show_series(series([(f"take {i}", FINDING) for i in (1, 2)]))
    head, row = beside.as_table()[:2]
    assert head[2:4] == ("take 1", "take 2") and row[:4] == ("Peak", "m/s²", 3.0123456789, 3.0123456789)

    sheet = SheetView()
    sheet.show_rows(["A · 8 Ω", "B · 8 Ω"], [
        {"step": "gain", "reading": "Gain", "unit": "dB", "low": 28.0, "high": None,
         "cells": {"A · 8 Ω": {"task": "a", "value": 29.123456}}}])  # fmt: skip
    assert sheet.as_table()[1] == ("gain", "Gain", "dB", 29.123456, None, 28.0, None)

    budget = BudgetView()
    entry = {"label": "mounting", "contribution": 0.2, "half_width": 0.35, "unit": "%", "distribution": "normal",
             "share": 1.0}  # fmt: skip
    small = {**entry, "label": "clock", "share": 0.0}
    budget.show_budgets([{"frequency": 160.0, "expanded": 0.4, "combined": 0.2, "dof": None, "dominant": "mounting",
                          "floored": False, "coverage": 2.0, "entries": [entry, small, small]}], 160.0)  # fmt: skip
    assert [r[0] for r in budget.as_table()[1:]] == ["mounting", "clock", "clock", "combined, 160 Hz", "expanded"]

    chart = Chart("Hz", "dB")
    assert table_of(chart) == ()
    chart.curve("one", np.array([1.0, 2.0]), np.array([3.0, np.nan]), "teal", 1.4, "one")
    chart.curve("two", np.array([1.0]), np.array([5.0]), "clay", 1.4, "two")
    assert as_text(table_of(chart)) == "Hz\tone [dB]\tHz\ttwo [dB]\n1.0\t3.0\t1.0\t5.0\n2.0\tnan\t\t"


def test_tables_and_lists_of_qt_are_copied_whole(qapp: Any) -> None:
    table = QTableWidget(2, 2)
    table.setHorizontalHeaderLabels(["Hz", "m/s²"])
    for r, row in enumerate((("10", "1.5"), ("20", "2"))):
        for c, text in enumerate(row):
            table.setItem(r, c, QTableWidgetItem(text))
    assert as_text(table_of(table.viewport())) == "Hz\tm/s²\n10\t1.5\n20\t2"
    listed = QListWidget()
    assert table_of(listed) == ()
    listed.addItems(["take 1", "take 2"])
    assert as_text(table_of(listed)) == "take 1\ntake 2"


def test_ctrl_c_copies_what_has_the_keys_and_says_so(window: Any, demo_lab: Any) -> None:
    window.activateWindow()
    until(window.isActiveWindow)
    window.ledger.view.setFocus()
    QTest.keyClick(window.ledger.view, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    board = QGuiApplication.clipboard()
    assert board is not None
    lines = board.text().split("\n")
    assert lines[0].startswith("serial\tkind\tmaker") and len(lines) == window.ledger.model.rowCount() + 1
    assert any(line.startswith("GM-03\t") for line in lines) and "Copied" in window.strip.text()
    # A text box keeps the key for its own text.
    window.ledger.search.setText("GM-0")
    window.ledger.search.setFocus()
    window.ledger.search.selectAll()
    QTest.keyClick(window.ledger.search, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    assert board.text() == "GM-0"
    lone = QPushButton("alone")
    lone.show()
    lone.setFocus()
    QApplication.setActiveWindow(lone)
    assert "Nothing here is a table" in copy_here() or QApplication.widgetAt(QPoint(0, 0)) is not None
    lone.close()


def test_names_of_letters_never_begin_one_another() -> None:
    assert names(3) == ["A", "S", "D"]
    many = names(60)
    assert len(set(many)) == 60 and {len(n) for n in many} == {2}


def test_a_letter_typed_presses_what_it_stands_on(window: Any, demo_lab: Any) -> None:
    window.activateWindow()
    until(window.isActiveWindow)

    def letters() -> Letters:
        QTest.keyClick(window, Qt.Key.Key_K)
        (made,) = [one for one in window.findChildren(Letters) if one.isVisible()]
        return made

    made = letters()
    shown = {t.widget for t in pressable(window) if isinstance(t.widget, QPushButton)}
    assert {window.tabs["Bench"], window.ledger.new} <= shown == {
        b for b in window.findChildren(QPushButton) if b.isVisible() and b.isEnabled()}  # fmt: skip
    to = {t.widget: name for name, t in made.named.items()}
    # The window's own keys are names now: M puts no mark, H holds nothing.
    QTest.keyClicks(made, to[window.tabs["Bench"]].lower())
    assert window.places.currentWidget() is window.bench
    QApplication.processEvents()
    made = letters()
    QTest.keyClick(made, Qt.Key.Key_Escape)
    QApplication.processEvents()
    assert not made.isVisible() and window.places.currentWidget() is window.bench
    window.go("Ledger")
    made = letters()
    to = {t.widget: name for name, t in made.named.items()}
    QTest.keyClicks(made, to[window.ledger.search])
    assert window.ledger.search.hasFocus()
    # What went away meanwhile is not pressed.
    made = letters() if not window.ledger.search.hasFocus() else Letters(window)
    name = next(n for n, t in made.named.items() if t.widget is window.ledger.new)
    window.ledger.new.hide()
    QTest.keyClicks(made, name)
    assert QApplication.activeModalWidget() is None


def test_plans_checks_and_stretches_have_letters_too(window: Any, demo_lab: Any) -> None:
    place = demo_lab.jobs / "0412" / "battery-tray" / "sine" / "sine.plan.yaml"
    window.go("Bench")
    bench = window.bench
    until(lambda: bench.docket.rows.count() > 3)

    def type_on(kind: type, which: Any = None, at: int = 0, *, capital: bool = False) -> None:
        def fits(one: Any) -> bool:
            return isinstance(one, kind) and (which is None or which(one))

        until(lambda: any(fits(t.widget) for t in pressable(window)), 10)
        made = Letters(window)
        name = [n for n, t in made.named.items() if fits(t.widget)][at]
        shift = Qt.KeyboardModifier.ShiftModifier if capital else Qt.KeyboardModifier.NoModifier
        for letter in name:
            QTest.keyClick(made, letter, shift)

    type_on(PlanRow, lambda row: row.place == place)
    until(lambda: bench.plan_file == place and bench.state == "walk-round" and bool(bench.walk.shown))
    signed = [c.key for c in bench.walk.shown if c.kind == "signed" and not c.done]
    type_on(CheckRow, lambda row: row.can_sign)
    until(lambda: next(c for c in bench.walk.shown if c.key == signed[0]).done)
    type_on(StretchView, at=0)
    assert "probe run is set under" in window.strip.text()
    type_on(StretchView, at=1)
    assert isinstance(menu := QApplication.activePopupWidget(), QMenu)
    assert "Copy" in {a.text() for a in menu.actions()}
    menu.close()
    type_on(ProfileChart)
    assert isinstance(menu := QApplication.activePopupWidget(), QMenu) and menu.actions()[0].text() == "Copy as picture"
    menu.close()
    type_on(PlanRow, lambda row: row.place == place, capital=True)
    assert isinstance(menu := QApplication.activePopupWidget(), QMenu) and bench.plan_file == place
    menu.close()
