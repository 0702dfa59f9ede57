"""Parts of the window, each painted and read back."""

from __future__ import annotations

import datetime
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QImage, QPainter
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QWidget

from lucid_anvil.contracts.finding import Curve, Finding, Reading
from lucid_anvil.contracts.method import CourseItem
from lucid_anvil.contracts.settings import check
from lucid_anvil.desktop.bench.chain_view import ChainView
from lucid_anvil.desktop.bench.course_view import CourseView, clock
from lucid_anvil.desktop.bench.walk_panel import CheckRow
from lucid_anvil.desktop.ledger.ledger_rows import due_words, value_text
from lucid_anvil.desktop.parts import theme
from lucid_anvil.desktop.parts.chart import Chart, FrequencyAxis, Handle, frequency_text
from lucid_anvil.desktop.parts.docket import take_facts
from lucid_anvil.desktop.parts.panels import Margins, RunPanel, head_of_points, live_rows, room_text, small
from lucid_anvil.desktop.parts.widgets import Bar, Elided, Tabs, Verdict, draw_verdict
from lucid_anvil.domains.comparison.window.budget_view import BudgetView, fewer
from lucid_anvil.domains.comparison.window.result_panel import ResultPanel
from lucid_anvil.domains.comparison.window.stage import PointFigures, Stage, corridor_of
from lucid_anvil.engine.study import demo_rig, study_run
from lucid_anvil.engine.tiles import chain, level_text, picture
from lucid_anvil.lab.ledger import Calibration
from lucid_anvil.lab.plans import Plan
from lucid_anvil.lab.takes import begin_take
from lucid_anvil.protocol.messages import Board, CheckState, Room, Tile, Trip

pytestmark = pytest.mark.usefixtures("qapp")


def painted(widget: QWidget, width: int = 300, height: int = 80) -> QImage:
    widget.resize(width, height)
    return widget.grab().toImage()


def has(image: QImage, role: str, near: int = 24) -> bool:
    """Whether some pixel has the colour of a role."""
    wanted = QColor(getattr(theme.palette(), role))
    for y in range(0, image.height(), 1):
        for x in range(0, image.width(), 2):
            c = image.pixelColor(x, y)
            if abs(c.red() - wanted.red()) + abs(c.green() - wanted.green()) + abs(c.blue() - wanted.blue()) < near:
                return True
    return False


def glyph(verdict: str) -> QImage:
    image = QImage(32, 18, QImage.Format.Format_ARGB32)
    image.fill(QColor(theme.palette().card))
    painter = QPainter(image)
    draw_verdict(painter, verdict, QRectF(2, 2, 28, 14))
    painter.end()
    return image


def test_verdicts_differ_in_shape_and_not_by_colour_alone() -> None:
    def shape(verdict: str) -> bytes:
        image = glyph(verdict)
        ground = QColor(theme.palette().card)
        return bytes(image.pixelColor(x, y) != ground for y in range(18) for x in range(32))

    shapes = {v: shape(v) for v in ("inside", "outside", "open", "running", "none")}
    assert len(set(shapes.values())) == 5
    assert has(glyph("inside"), "teal")
    assert has(glyph("outside"), "clay", 60)
    assert has(glyph("open"), "plum")
    assert has(glyph("running"), "brass")


def test_verdict_widget_says_its_word() -> None:
    made = Verdict()
    made.set("open")
    assert made.toolTip() == "can't be told"
    assert has(painted(made, 16, 9), "plum", 60)


def test_bar_shows_use_doubt_and_limit() -> None:
    bar = Bar(7)
    bar.set(0.5, "teal", doubt=0.1)
    image = painted(bar, 250, 13)
    y = image.height() // 2 + 2
    assert image.pixelColor(40, y).name().upper() == theme.palette().teal.upper()
    assert image.pixelColor(180, y).name().upper() == theme.palette().sand.upper()
    bar.set(3.0, "clay")
    assert painted(bar, 250, 13).pixelColor(240, y).name().upper() == theme.palette().clay.upper()


def test_a_row_that_once_took_two_lines_takes_one_again(qtbot: Any) -> None:
    made = Margins()
    qtbot.addWidget(made)
    made.resize(240, 200)
    made.show()
    made.show_rows([("A name that is far too long for one line of this", "1.00 bar", None, 0.0, "none", "")])
    tall = made.kept[0].name.height()
    made.show_rows([("Short", "5 bar", None, 0.0, "none", "")])
    assert made.kept[0].name.maximumHeight() < 0.7 * tall


def test_tabs_choose_one_and_tell() -> None:
    tabs = Tabs([("a", "A"), ("b", "B")])
    told: list[str] = []
    tabs.chosen.connect(told.append)
    QTest.mouseClick(tabs.buttons["b"], Qt.MouseButton.LeftButton)
    assert told == ["b"]
    assert not tabs.buttons["a"].isChecked()
    tabs.choose("a", quiet=True)
    assert told == ["b"]


def test_elided_text_keeps_the_whole_in_its_tip() -> None:
    made = Elided("a very long sentence that can't have the room it would like to have")
    painted(made, 80, 20)
    assert made.toolTip() == made.text()
    painted(made, 900, 20)
    assert made.toolTip() == ""


def test_chain_tiles_are_painted_told_and_clicked() -> None:
    view = ChainView()
    view.show_none("This is take-001 as it was kept.")
    empty = painted(view, 900, 80)
    assert has(empty, "muted")
    tiles = [
        Tile("source", "Source", "sine 160 Hz", "98 mV", "peak", 0.4, 0.99, "drive"),
        Tile("unit", "Unit", "GA-11", "297 mV", "to 2026", 0.3, 1.0, "measure"),
        Tile("inputs", "Inputs", "24 bit", "overload", "headroom", 1.0, 1.0, "measure", True),
    ]
    view.show_tiles(tiles)
    image = painted(view, 900, 80)
    assert image != empty
    for role in ("brass", "teal", "clay"):
        assert has(image, role)
    clicked: list[str] = []
    view.clicked.connect(clicked.append)
    QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=QPointF(450, 40).toPoint())
    assert clicked == ["unit"]


def test_course_has_a_playhead_and_a_block_can_be_hit() -> None:
    view = CourseView()
    items = [CourseItem("Gain ratio", 8.0)] + [CourseItem(f"{f} Hz", 2.0, float(f), 20.0) for f in (160, 10, 1000)]
    view.show_course(items)
    before = painted(view, 600, 74)
    view.show_progress(10.0, {160.0: "done", 1000.0: "struck"}, True)
    after = painted(view, 600, 74)
    assert before != after
    assert has(after, "ink", 60)
    assert view.total == 14.0
    boxes = view._boxes()
    assert sum(b.width() for b in boxes) == pytest.approx(600 - 3 * 2)
    assert all(b.width() > 40 for b in boxes)
    hit: list[float] = []
    view.chosen.connect(hit.append)
    QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=boxes[2].center().toPoint())
    QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=boxes[0].center().toPoint())
    assert hit == [10.0]


@pytest.mark.parametrize(("seconds", "text"), [(5, "5 s"), (65, "1 min 05 s"), (7300, "2 h 01 min")])
def test_times_are_said_as_people_say_them(seconds: float, text: str) -> None:
    assert clock(seconds) == text


@pytest.mark.parametrize(
    ("days", "words", "role"),
    [(None, "no due date", "muted"), (-3, "overdue 3 d", "clay"), (0, "due today", "clay"), (12, "due in 12 d", "brass"),
     (100, "3 months left", "muted"), (800, "2.2 years left", "muted")],
)  # fmt: skip
def test_due_dates_in_words(days: int | None, words: str, role: str) -> None:
    assert due_words(days) == (words, role)


def test_values_in_the_ledger_have_their_digits() -> None:
    assert value_text(Calibration(datetime.date(2026, 1, 1), 9.86287, uncertainty=0.5)) == "9.863 mV/(m/s²)"
    assert value_text(Calibration(datetime.date(2026, 1, 1), 9.86287)) == "9.863 mV/(m/s²)"


def test_frequencies_on_the_axis() -> None:
    assert [frequency_text(f) for f in (31.5, 1000, 1250, 10000)] == ["31.5", "1k", "1.25k", "10k"]
    axis = FrequencyAxis("bottom")
    values = axis.tickValues(1.0, 4.0, 500)[0][1]
    assert axis.tickStrings(values, 1, 1) == ["10", "20", "50", "100", "200", "500", "1k", "2k", "5k", "10k"]


@pytest.mark.parametrize(("low", "high"), [(-1.06e-2, 5.3e-3), (-0.4, 0.2), (3.4e5, 3.9e5), (2e7, 9e7), (-3e-6, 1e-6)])
def test_an_axis_says_what_is_drawn_however_often_it_takes_on_its_colours(qapp: Any, low: float, high: float) -> None:
    chart = Chart("N", "V", log_x=False)
    chart.resize(700, 300)
    chart.show()
    for _ in range(2):
        chart.curve("a", [low, high], [low, high], "teal")
        QApplication.processEvents()
        chart.apply_theme()  # day to night
        chart.name_axes("N", "kV" if chart.y_unit == "V" else "V")
    for side in ("left", "bottom"):
        axis = chart.getAxis(side)
        for spacing, values in axis.tickValues(low, high, 300.0)[:1]:
            said = axis.tickStrings(values, axis.autoSIPrefixScale * axis.scale, spacing)
            assert [float(s.replace("−", "-")) for s in said] == pytest.approx(values, rel=1e-6, abs=1e-12)
        assert "x" not in axis.labelString().split(">")[1].split("<")[0]


def test_a_handle_tells_its_value_on_a_log_axis() -> None:
    chart = Chart("Hz", "m/s²", log_y=True)
    handle = Handle(chart, 90, lambda f: f"{f:.0f} Hz")
    handle.put(250.0)
    assert handle.get() == pytest.approx(250.0)
    assert handle.note.textItem.toPlainText() == "250 Hz"


def test_chart_ignores_values_that_are_not_there() -> None:
    chart = Chart("Hz", "%")
    chart.whiskers("doubt", [10.0], [None], [0.1])
    assert "doubt" not in chart.series
    chart.show_cursor(100.0)
    assert not chart.readout.isVisible()
    chart.curve("_hidden", [10.0], [1.0])
    chart.show_cursor(100.0)
    assert not chart.readout.isVisible()


def budget_rows() -> list[dict[str, Any]]:
    def entry(label: str, u: float) -> dict[str, Any]:
        return {"key": label, "label": label, "half_width": u, "unit": "%", "distribution": "normal",
                "sensitivity": 1.0, "contribution": u, "share": u * u / 0.0501, "dof": None}  # fmt: skip

    entries = [entry("Reference", 0.2), entry("Mounting", 0.1), entry("Tiny", 0.002), entry("Tinier", 0.001)]
    row = {"combined": 0.2238, "dof": 57.3, "coverage": 2.05, "expanded": 0.46, "floored": False,
           "dominant": "Reference", "entries": entries}  # fmt: skip
    return [{"frequency": f, **row} for f in (10.0, 160.0, 1000.0)]


def test_the_budget_opens_at_any_point() -> None:
    view = BudgetView()
    view.show_budgets([], None)
    assert "comes with the finding" in view.title.text()
    view.show_budgets(budget_rows(), 900.0)
    assert view.title.text().startswith("1000 Hz:  U = 0.46 %")
    assert view.largest.text() == "Largest: Reference"
    assert "57" in view.detail.text()
    assert "k = 2.05" in view.detail.text()
    view.resize(700, 420)
    assert has(view.bars.grab().toImage(), "plum")
    QTest.mouseClick(view.strip, Qt.MouseButton.LeftButton, pos=QPointF(5, 30).toPoint())
    assert view.title.text().startswith("10 Hz")
    row = {**budget_rows()[0], "floored": True, "dof": None}
    view.show_budgets([row], None)
    assert "declared capability decides" in view.detail.text()
    assert "∞" in view.detail.text()


def test_small_entries_are_told_together() -> None:
    rows = fewer(budget_rows()[0]["entries"], 0.2238)
    assert [r["label"] for r in rows] == ["Reference", "Mounting", "2 smaller ones together"]
    assert rows[-1]["contribution"] == pytest.approx((0.002**2 + 0.001**2) ** 0.5)


def point(**more: Any) -> dict[str, Any]:
    return {"frequency": 1000.0, "fault": None, "sensitivity": 9.9, "uncertainty": 0.5, "distortion": [0.1, 0.2],
            "transverse": 2.0, "spread": 0.001, "phase": 0.1, "level": 20.0, **more}  # fmt: skip


def test_live_margins_of_the_newest_point() -> None:
    def corridor(_f: float) -> tuple[float, float]:
        return -2.0, 2.0

    first = point(frequency=160.0, sensitivity=10.0)
    rows = {r[0]: r for r in live_rows(Board(points=[first, point()]), corridor)}
    assert rows["Deviation"][4] == "inside"
    assert rows["Deviation"][2] == pytest.approx(0.5)
    assert live_rows(Board(points=[first, point(sensitivity=10.19)]), corridor)[0][4] == "open"
    assert live_rows(Board(points=[first, point(sensitivity=10.5)]), corridor)[0][4] == "outside"
    struck = live_rows(Board(points=[first, point(fault="unit gives no output")]), corridor)
    assert struck == [("Struck", "", None, 0.0, "open", "unit gives no output")]
    unsteady = live_rows(Board(points=[first, point(unsteady=True, spread=0.3)]), corridor)
    assert any("did not settle" in r[5] for r in unsteady)
    assert live_rows(Board(), corridor) == []
    assert small(0.001) == "< 0.01 %"
    assert small(1.234) == "1.2 %"


def test_run_panel_shows_guards_and_a_trip() -> None:
    panel = RunPanel()
    rooms = [
        Room("drive", "Drive", 0.1, 0.5, 5.0, "V", "cut"),
        Room("supply", "Sensor supply", 1.5, 23.8, 19.0, "V", "cut"),
    ]
    board = Board(rooms=rooms, points=[point()])
    panel.show_board(board, live_rows(board, lambda _f: (None, None)), head_of_points(board))
    assert len(panel.guards) == 2
    assert room_text(Room("abort", "Abort edges", 0.0, 3.0, None, "m/s²", "cut")) == ("armed", 1.0)
    assert room_text(Room("abort", "Abort edges", 0.5, 10.0, 20.0, "m/s²", "cut")) == ("6.0 dB", 0.5)
    assert panel.at.text() == "at 1000 Hz"
    assert has(painted(panel.guards[1], 200, 32), "clay", 40)
    # The next bench has one guard only: the other must not stand there as armed.
    panel.show_board(Board(rooms=[Room("disk", "Disk space", 0.0, 8e10, 2e8, "B", "ease")]), [], "")
    assert [row.room.label for row in panel.guards if row.room and not row.isHidden()] == ["Disk space"]


def test_check_rows_are_signed_by_a_click_once() -> None:
    told: list[str] = []
    row = CheckRow(CheckState("mounting", "Unit mounted", "signed", False, "sign when you have done it"), 3)
    row.clicked.connect(told.append)
    QTest.mouseClick(row, Qt.MouseButton.LeftButton)
    assert told == ["mounting"]
    assert "not done" in row.accessibleName()
    sensed = CheckRow(CheckState("supply", "Supply", "sensed", False, "open"), 5)
    sensed.clicked.connect(told.append)
    QTest.mouseClick(sensed, Qt.MouseButton.LeftButton)
    assert told == ["mounting"]
    assert has(painted(sensed, 240, 49), "clay", 60)


def finding(fault: str | None = None) -> Finding:
    x = (10.0, 160.0)
    sensitivity = Reading("sensitivity", "S", 9.87, "mV/(m/s²)", 0.05, 2.0)
    nominal = Reading(
        "nominal_deviation", "Deviation from nominal", -1.3, "%", 0.5, 2.0, low=-5.0, high=5.0, verdict="inside"
    )
    curve = Curve("deviation", "D", x, (0.1, 0.0), "Hz", "%", (0.3, 0.0), 2.0, (-5.0, -5.0), (5.0, 5.0), (True, True))
    detail = {"reference_frequency": 160.0, "points": [{"frequency": 10.0, "fault": fault}], "budgets": []}
    return Finding("accelerometer-comparison", (sensitivity, nominal), (curve,), detail=detail)


PLAN = check(Plan, {"title": "t", "steps": [{"method": "m"}], "as_state": "as left"}, "plan")


def shown_panel(*given: Any) -> ResultPanel:
    panel = ResultPanel("K.B.")
    panel.resize(260, 500)
    panel.show()
    panel.show_finding(*given)
    return panel


def test_result_panel_offers_what_is_next() -> None:
    panel = shown_panel(finding(), PLAN, "last calibration: 9.92", None, None)
    assert panel.box.isVisible()
    assert not panel.paper.isVisible()
    assert not panel.struck.isVisible()
    assert panel.state.now == "as left"
    assert panel.word.text() == "inside"
    given: list[tuple[str, str, bool]] = []
    panel.accept.connect(lambda *words: given.append(words))
    panel.initials.setText("")
    QTest.mouseClick(panel.go, Qt.MouseButton.LeftButton)
    assert given == []
    panel.initials.setText("M.O.")
    panel.due.setChecked(True)
    QTest.mouseClick(panel.go, Qt.MouseButton.LeftButton)
    assert given == [("as left", "M.O.", True, "")]


def test_a_take_that_was_cut_cannot_be_accepted() -> None:
    panel = shown_panel(finding(), PLAN, "", None, "Coil current on current at 3 s")
    assert not panel.box.isVisible()
    assert panel.word.text() == "cut"
    assert "Coil current" in panel.cut.text()
    assert "can't be accepted" in panel.done.text()
    nothing = shown_panel(None, PLAN, "", None, "stopped by the operator")
    assert nothing.word.text() == "cut"
    assert not nothing.box.isVisible()


def test_struck_points_are_named_and_offered_again() -> None:
    panel = shown_panel(finding("unit gives no output"), PLAN, "", None, None)
    assert panel.struck.isVisible()
    assert panel.notes.text() == "10 Hz struck: unit gives no output."
    accepted = shown_panel(finding(), PLAN, "", "GTH-2026-0001", None)
    assert accepted.paper.isVisible()
    assert not accepted.box.isVisible()


def test_the_stage_draws_what_comes_in() -> None:
    prepared = study_run(demo_rig(), {"corridor": [[10, "-5 %", "5 %"], [10000, "-5 %", "10 %"]]})
    stage = Stage()
    stage.show_prepared(prepared, True)
    assert {"course", "line-stroke", "line-force", "hatch"} <= set(stage.level.series)
    assert corridor_of(prepared)(10.0) == (-5.0, 5.0)
    assert corridor_of(prepared)(10000.0) == (-5.0, 10.0)
    wave = {"t": [0.0, 0.001, 0.002], "reference": [0.0, 0.3, 0.0], "unit": [0.0, 0.29, 0.0]}
    points = [point(frequency=160.0, sensitivity=10.0), point(), point(frequency=2000.0, fault="loose")]
    del points[2]["sensitivity"]
    stage.choose("deviation")
    stage.show_board(Board(state="running", points=points, wave=wave, live={"frequency": 1000.0, "stage": "measuring"}))
    chart = stage.charts["deviation"]
    assert chart.table["deviation"][1].tolist() == pytest.approx([0.0, -1.0])
    assert "struck" in chart.series
    assert "reference" in stage.small.series
    stage.show_earlier(Curve("e", "", (10.0, 100.0), (0.0, 0.1), "Hz", "%"))
    assert "earlier" in chart.series
    stage.show_earlier(None)
    assert "earlier" not in chart.series


def test_point_figures() -> None:
    figures = PointFigures()
    figures.show_board(
        Board(points=[point()], live={"frequency": 500.0, "level": 20.0, "stage": "measuring", "repeat": 2})
    )
    assert figures.values["frequency"].text() == "500 Hz"
    assert figures.values["stage"].text() == "measuring, again"
    assert figures.values["sensitivity"].text() == "9.900"


def test_tiles_from_a_block() -> None:
    prepared = study_run(demo_rig(), {})
    t = np.arange(2048) / 51200
    samples = {r: 0.3 * np.sin(2 * np.pi * 160 * t) for r in ("reference", "unit", "transverse", "current")}
    rooms = [
        Room("current", "Coil current", 0.2, 2.8, 14.0, "A", "cut"),
        Room("stroke", "Stroke", 0.1, 1e-3, 0.012, "m", "cut"),
    ]
    tiles = {t.key: t for t in chain(prepared, samples, 0.1 * samples["unit"], rooms, {"frequency": 160.0})}
    assert tiles["source"].detail == "sine 160 Hz"
    assert tiles["source"].value == "30.0 mV"
    assert tiles["shaker"].value == "2.80 A"
    assert tiles["shaker"].detail == "stroke 1.00 mm"
    assert tiles["inputs"].value == "10 dB"
    assert tiles["reference"].value.startswith("30.0")
    samples["unit"] = 4 * samples["unit"]
    loud = {t.key: t for t in chain(prepared, samples, t, rooms, {})}
    assert loud["inputs"].value == "overload"
    assert loud["inputs"].alarm
    assert [level_text(v) for v in (123.4, 12.34, 0.1234)] == ["123 m/s²", "12.3 m/s²", "0.12 m/s²"]


def test_the_live_picture_stands_still() -> None:
    starts = []
    for k in range(5):
        t = (k * 777 + np.arange(12288)) / 51200
        x = np.sin(2 * np.pi * 400 * t)
        shown = picture({"reference": x, "unit": 0.9 * x}, 51200.0, 400.0)
        starts.append(shown["reference"][0])
        assert len(shown["t"]) == len(shown["reference"]) == len(shown["unit"]) <= 330
        assert shown["t"][-1] == pytest.approx(2.5 / 400, rel=0.1)
    assert np.ptp(starts) < 0.1


def test_a_trip_is_one_sentence() -> None:
    trip = Trip("stroke", "Stroke", "cut", "table", 3.456, 80, 0.0123, 0.012, "m")
    assert trip.sentence == "Stroke on table at 3.46 s: 0.0123 m against a limit of 0.012 m (cut)"


def test_take_rows_know_their_take_without_its_streams(tmp_path: Path) -> None:
    take = begin_take(tmp_path / "take-003", "title: t\nsteps: [{method: m}]\n", "")
    (take.folder / "events.jsonl").write_text('{"kind": "end", "status": "cut", "reason": "Stroke", "t": 1}\n')
    facts = take_facts(take)
    assert (facts["name"], facts["status"], facts["reason"]) == ("take 3", "cut", "Stroke")
    take.keep(finding())
    assert take_facts(take)["curve"] == [0.1, 0.0]
