"""The shaker on the real window: the profile taken hold of, tables pasted, a run seen to its end, a cut looked into."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication
from tests.test_desktop import until
from tests.test_shaker_engine import quick_plan

from lucid_anvil.desktop.parts.docket import article_of
from lucid_anvil.desktop.parts.widgets import three
from lucid_anvil.desktop.shell.window import MainWindow
from lucid_anvil.domains.shaker.window.lanes import Lane, Lanes
from lucid_anvil.domains.shaker.window.margins import head_of, shaker_rows
from lucid_anvil.engine.preparing import prepare
from lucid_anvil.lab.textfiles import load_yaml
from lucid_anvil.protocol.messages import Board


def opened(window: MainWindow, place: Any) -> Any:
    """The plan open on the Bench, its walk-round begun."""
    bench = window.bench
    window.go("Bench")
    bench.open_plan(place)
    until(lambda: bench.plan_file == place and bench.state == "walk-round" and bool(bench.walk.shown))
    return bench


def begin(window: MainWindow) -> None:
    bench = window.bench
    for check in [c for c in bench.walk.shown if c.kind == "signed"]:
        bench.walk.sign.emit(check.key, "K.B.")
    until(bench.walk.go.isEnabled)
    bench.walk.go.click()


def settled(bench: Any) -> None:
    until(lambda: not bench.aside.open)
    QApplication.processEvents()


def test_a_profile_is_taken_hold_of(window: MainWindow, demo_lab: Any) -> None:
    place = demo_lab.jobs / "0412" / "battery-tray" / "sine" / "sine.plan.yaml"
    bench = opened(window, place)
    chart = bench.kinds["shaker"].stage.profile
    file = place.with_name("sine.profile.yaml")
    assert len(chart.grips) == 11 and "target" in chart.series
    # Drag the level of the last segment up.
    grip = next(g for g in chart.grips if g.part == ("level", 3))
    grip.setPos((grip.pos().x(), np.log10(40.0)))
    assert "40" in bench.kinds["shaker"].stage.word.text()
    chart.dragged(grip, True)
    settled(bench)
    assert load_yaml(file)["segments"][3]["acceleration"] == "40 m/s^2"
    # Type a frequency on an edge; a wrong one is said and changes nothing.
    edge = next(g for g in chart.grips if g.part == ("until", 1))
    chart.type_on(edge)
    assert chart.entry is not None
    chart.typed(edge, "50 Hz")
    settled(bench)
    assert load_yaml(file)["segments"][1]["until"] == "50 Hz"
    chart.typed(next(g for g in chart.grips if g.part == ("until", 1)), "500 Hz")
    assert "outside" in bench.kinds["shaker"].stage.word.text() and load_yaml(file)["segments"][1]["until"] == "50 Hz"
    # The corridor's edge.
    tolerance = next(g for g in chart.grips if g.part[0] == "tolerance-high")
    chart.typed(tolerance, f"{40 * 10**0.1:.5g} m/s^2")
    settled(bench)
    assert load_yaml(file)["tolerance"] == {"low": "-3 dB", "high": "2 dB"}
    # Displacement is shown and typed as such.
    bench.kinds["shaker"].stage.quantity.choose("displacement")
    level = next(g for g in chart.grips if g.part == ("level", 0))
    assert level.home[1] == pytest.approx(4.4) and chart.y_unit == "mm pk-pk"
    chart.typed(level, "4 mm")
    settled(bench)
    assert load_yaml(file)["segments"][0]["displacement"] == "4 mm"
    bench.kinds["shaker"].stage.quantity.choose("all")
    assert bench.kinds["shaker"].stage.pages.currentWidget() is bench.kinds["shaker"].stage.trio
    words = dict(chart.choices_at(20.0))
    assert any(w.startswith("Split") for w in words) and "Constant velocity here" in words
    # A block of the course made longer.
    before = bench.kinds["shaker"].stretches.items[1].duration
    bench.kinds["shaker"].stretches.stretched.emit(1, 2 * before)
    settled(bench)
    assert bench.kinds["shaker"].stretches.items[1].duration == pytest.approx(2 * before, rel=0.05)


def test_a_table_is_pasted_and_its_exact_form_taken(window: MainWindow, demo_lab: Any) -> None:
    place = demo_lab.jobs / "0412" / "battery-tray" / "sine" / "sine.plan.yaml"
    bench = opened(window, place)
    stage = bench.kinds["shaker"].stage
    QGuiApplication.clipboard().setText("f [Hz]\ta [m/s²]\n10\t3,9\n22,5\t20\n300\t20\n")
    stage.paste.click()
    assert "nearly 2 constant laws" in stage.word.text() and stage.exact.isVisibleTo(stage)
    stage.exact.click()
    settled(bench)
    held = load_yaml(place.with_name("sine.profile.yaml"))
    assert [next(iter(s)) for s in held["segments"]] == ["displacement", "acceleration"] and "until" not in held[
        "segments"
    ][0]
    stage.take_table("nonsense")
    assert "paste" in stage.word.text().lower() or "two" in stage.word.text()
    other = demo_lab.jobs / "0412" / "battery-tray" / "random" / "random.plan.yaml"
    bench = opened(window, other)
    until(lambda: bench.kinds["shaker"].stage.method == "random-vibration")
    bench.kinds["shaker"].stage.take_table("Hz;g²/Hz\n20;0,01\n2000;0,02\n")
    settled(bench)
    assert len(load_yaml(other.with_name("random.profile.yaml"))["points"]) == 2
    bench.kinds["shaker"].stage.lock.click()
    settled(bench)
    assert "rms" in load_yaml(other.with_name("random.profile.yaml"))


def test_a_run_is_seen_to_its_end_and_a_cut_looked_into(window: MainWindow, demo_lab: Any) -> None:
    place = quick_plan(demo_lab, "sine")
    bench = opened(window, place)
    begin(window)
    until(lambda: bench.state == "running")
    until(lambda: bench.state == "done" and bench.finding is not None, 120)
    stage = bench.kinds["shaker"].stage
    assert "control" in stage.profile.series and bench.kinds["shaker"].result.word.text() == "inside"
    assert "100.0 %" in bench.kinds["shaker"].result.big.text()
    assert stage.probe.bars.rows and "control" in stage.probe.chart.series
    for key in ("drive", "responses", "phase", "raw", "probe"):
        stage.choose(key)
        QApplication.processEvents()
    # The fault's time counts from the walk-round on, whose length is the machine's: the sweep is long enough for any.
    slow = {"course": [{"sweep": "up", "rate": "8 oct/min"}]}
    quick_plan(demo_lab, "sine", slow, faults=[{"at": "16 s", "kind": "open", "channel": "control"}])
    bench.kinds["shaker"].result.rerun.click()
    until(lambda: bench.state == "walk-round" and bool(bench.walk.shown))
    begin(window)
    until(lambda: bench.state == "done", 120)
    assert stage.tabs.now == "cut" and len(stage.cut.lanes) == 5 and stage.cut.mark is not None
    assert "at zero" in stage.word.text() and "Sensor supply on control" in bench.kinds["shaker"].result.cut.text()
    assert bench.kinds["shaker"].result.more.isVisibleTo(bench.kinds["shaker"].result)
    assert stage.earlier is not None
    window.night()
    window.night()


def test_another_sensor_from_its_tile(window: MainWindow, demo_lab: Any) -> None:
    place = quick_plan(demo_lab, "sine")
    bench = opened(window, place)
    assert any(serial == "GA-02" for serial, _ in bench.kinds["shaker"].choices())
    bench.kinds["shaker"].swap("control", "GA-02")
    settled(bench)
    until(lambda: any(c.key == "identity" and not c.done for c in bench.walk.shown))
    until(lambda: any("GA-02" in t.detail for t in bench.chain.tiles))
    until(lambda: bool(window.link.latest and window.link.latest.identities))
    bench.kinds["shaker"].take_sheet("control", window.link.latest.identities["control"])
    settled(bench)
    until(lambda: prepare(place).plan.sensors["control"].serial == "GA-07")
    # The sheet is entered beside the ledger's newer calibration, which stays in force.
    assert "stays in force" in window.strip.text()
    assert prepare(place).plan.sensors["control"].certificate != "data sheet"
    assert any(c.certificate == "data sheet" for c in demo_lab.history("GA-07"))


def test_lanes_and_words(qtbot: Any) -> None:
    lanes = Lanes()
    qtbot.addWidget(lanes)
    lanes.resize(500, 300)
    lanes.grab()
    x = np.sin(np.arange(50000) / 50)
    lanes.show_lanes(
        [Lane("Control", "m/s²", x, behind=0.5 * x), Lane("Drive", "V", x[:100], "brass")], (3.0, 5.0), (4.5, "tripped")
    )
    assert lanes.grab().toImage().pixelColor(250, 60).isValid()
    assert (three(1234.5), three(0.01234), three(-3.0)) == ("1234", "0.0123", "−3")
    from pathlib import Path

    assert article_of(Path("/j/0412/battery-tray/sine"), Path("/j")) == "Battery tray"
    assert article_of(Path("/j/0412/comparison-ga-11"), Path("/j")) == "GA-11"
    QTest.mouseMove(lanes, QPointF(5, 5).toPoint())
    assert Qt is not None


def test_margins_of_each_kind(demo_lab: Any) -> None:
    base = demo_lab.jobs / "0412" / "battery-tray"
    sine, random, record = (prepare(base / n / f"{n}.plan.yaml") for n in ("sine", "random", "record"))
    live = {"stage": "follow", "f": 100.0, "control": 33.0, "target": 32.0, "drive": 1.0, "responses": [60.0, 40.0],
            "phases": [0, 0, 0], "phase_error": 4.0, "level_db": -3.0}  # fmt: skip
    rows = {r[0]: r for r in shaker_rows(Board(live=live), sine)}
    assert rows["Level"][4] == "inside" and rows["Phase held"][4] == "outside" and "1.82 ×" in rows["Response"][1]
    assert head_of(Board(live=live)) == "following the resonance · −3.0 dB"
    live = {"stage": "random", "rms": 45.0, "rms_wanted": 42.0, "lines_in": 99.0, "dof": 118.0, "spacing": 5.0,
            "kurtosis": 3.01, "stroke": 1e-3, "drive": 0.6}  # fmt: skip
    rows = {r[0]: r for r in shaker_rows(Board(live=live), random)}
    assert rows["rms"][1] == "45 m/s² +7.1 %" and rows["Stroke, three sigma"][1] == "1.0 mm pk-pk"
    live = {"stage": "history", "pass": 2, "figures": {"rms_error": 12.0, "peak_error": -3.0, "spectrum_error": 0.4}}
    assert [r[4] for r in shaker_rows(Board(live=live), record)] == ["plain", "outside", "inside", "inside"]


def test_corridor_and_limits_stand_at_the_level_of_the_moment(window: MainWindow, demo_lab: Any) -> None:
    bench = opened(window, quick_plan(demo_lab, "random"))
    stage = bench.kinds["shaker"].stage
    bench.link.blockSignals(True)

    def edges() -> list[float]:
        parts = ("corridor-low", "corridor-high", "target")
        return [10 ** float(np.nanmax(stage.profile.series[p].getData()[1])) for p in parts]

    full = edges()
    stage.show_board(Board(state="running", live={"stage": "level", "level_db": -6.0}))
    assert edges() == pytest.approx([v * 10**-0.6 for v in full])
    stage.show_board(Board(state="running", live={"stage": "random", "level_db": 0.0}))
    assert edges() == pytest.approx(full)
