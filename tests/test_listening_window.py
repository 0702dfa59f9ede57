"""The listening methods on the real window: hits taken hold of, a map with its cursors, a check accepted; the Lightbox."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QImage
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QFileDialog
from tests.test_desktop import until
from tests.test_listening_run import kept_take, plan_of
from tests.test_shaker_window import begin, opened

from lucid_anvil.contracts.finding import Curve, Finding
from lucid_anvil.contracts.recording import Channel, channel_of
from lucid_anvil.core.errors import BadInput
from lucid_anvil.core.signal.pulses import figures
from lucid_anvil.desktop.lightbox.listen_view import ListenView
from lucid_anvil.desktop.lightbox.overlay_view import OverlayView, Shown
from lucid_anvil.desktop.lightbox.record_view import RecordView, figures_text, time_text
from lucid_anvil.desktop.parts.asking import LineDialog
from lucid_anvil.desktop.parts.player import RATE, Player
from lucid_anvil.desktop.shell.window import MainWindow
from lucid_anvil.domains.listening.impact_response import linked
from lucid_anvil.domains.listening.window.bench import running_rows
from lucid_anvil.domains.listening.window.hit_stage import HitStage, HitStrip
from lucid_anvil.domains.listening.window.map_view import MapView
from lucid_anvil.domains.listening.window.tone_stage import ToneStage
from lucid_anvil.engine.evaluating import evaluate_take
from lucid_anvil.engine.preparing import prepare
from lucid_anvil.formats import Recording, read, write
from lucid_anvil.lab.takes import Take
from lucid_anvil.lab.textfiles import dump_yaml, load_yaml
from lucid_anvil.protocol.messages import Board

# --- on the Bench ----------------------------------------------------------------------------------------------------


def test_hits_from_the_walk_round_to_the_modes(window: MainWindow, demo_lab: Any) -> None:
    bench = opened(window, plan_of(demo_lab, "impact"))
    stage = bench.kinds["listening"].stage.hits
    assert bench.stages.currentWidget() is bench.kinds["listening"].stage and bench.side is bench.kinds["listening"]
    assert stage.told.text() == "lines 1.56 Hz apart"
    assert {t.key for t in bench.chain.tiles} == {"force", "response", "inputs"}
    begin(window)
    until(lambda: bench.state == "running", 60)
    assert bench.kinds["listening"].end.isVisible()
    assert not bench.kinds["shaker"].orders.hold.isVisible()
    until(lambda: "frf" in stage.growing.series, 120)
    assert stage.strip.hits and stage.level.isVisible()
    until(lambda: bench.state == "done" and bench.finding is not None, 180)
    assert bench.kinds["listening"].result.big.text() == "5 good hits"
    assert stage.tabs.now == "magnitude" and "now" in stage.response.series
    assert len(stage.notes) == 5  # four modes, and how far the hammer excites
    for key, chart in (("phase", stage.linear), ("circle", stage.circle), ("real", stage.linear)):
        stage.choose(key)
        assert "now" in chart.series and stage.upper.currentWidget() is chart
    stage.form.choose("receptance")
    stage.choose("magnitude")
    assert stage.response.y_unit == "µm/N"
    f, y = stage.response.table["now"]
    assert f[int(np.argmax(y))] == pytest.approx(182, abs=2)  # as receptance the lowest mode stands highest
    assert not bench.kinds["listening"].result.accept.isVisible()


def test_a_run_down_grows_a_map_and_ends_by_n(window: MainWindow, demo_lab: Any) -> None:
    bench = opened(window, plan_of(demo_lab, "run-down"))
    stage = bench.kinds["listening"].stage.spin
    begin(window)
    until(lambda: bench.state == "running", 60)
    stage.slope.emit(False)  # the other edge tells the speed as well
    until(lambda: stage.edge.now == "falling" and stage.map.rpm.size > 12, 120)
    assert "rpm" in stage.rpm.text() and stage.told.text() == "Recording"
    assert "pulses" in stage.pulses.series
    # Spectrum, orders and level are there while it runs; a part of the map that is looked at stays while it grows.
    for key, chart, name in (("spectrum", stage.spectrum, "now"), ("orders", stage.curves, "order_5"),
                             ("overall", stage.plain, "overall")):  # fmt: skip
        stage.live_tabs.chosen.emit(key)
        assert stage.pages.currentWidget() is chart and len(chart.table[name][0]) > 10
    assert stage.spectrum.table["now"][0][-1] > 11000 and np.all(np.diff(stage.curves.table["order_5"][0]) > 0)
    stage.live_tabs.chosen.emit("map")
    box, rows = stage.map.chart.getPlotItem().getViewBox(), stage.map.rpm.size
    box.setRange(xRange=(0, 300), padding=0)
    box.sigRangeChangedManually.emit([True, True])
    stage.map.chart.bar.setLevels((20.0, 70.0))
    stage.map.chart.own_levels = True
    until(lambda: stage.map.rpm.size > rows, 60)
    assert box.viewRange()[0] == [0, 300] and list(stage.map.chart.image.levels) == [20.0, 70.0]
    stage.map.chart.enableAutoRange()
    assert box.viewRange()[0][1] > 400 and list(stage.map.chart.image.levels) == [20.0, 70.0]
    window.setFocus()
    QTest.keyClick(window, Qt.Key.Key_N)
    until(lambda: bench.state == "done" and bench.finding is not None, 120)
    assert Take(bench.take).status() == "done"
    assert stage.map.rpm.size > 12 and stage.tabs.isVisible()
    stage.choose("orders")
    assert {"order_1", "order_5"} <= set(stage.curves.series)
    stage.choose("map")
    near = float(stage.map.f[-1])
    assert stage.reach.isVisible()
    stage.reach.choose("whole")
    stage.reach.chosen.emit("whole")
    assert stage.map.f[-1] > 1.3 * near and float(stage.map.chart.image.levels[0]) > 0
    stage.over.chosen.emit("order")
    stage.over.choose("order")
    assert stage.map.chart.over == "order"
    stage.choose("bands")
    assert "bands" in stage.bands.series
    stage.choose("overall")
    assert stage.plain.y_unit == "dB" and "overall" in stage.plain.series
    stage.repaint_charts()


def test_a_check_is_accepted_into_the_ledger(window: MainWindow, demo_lab: Any) -> None:
    bench = opened(window, plan_of(demo_lab, "check"))
    stage = bench.kinds["listening"].stage.tone
    begin(window)
    until(lambda: "level" in stage.level.series, 60)
    until(lambda: bench.state == "done" and bench.finding is not None, 120)
    result = bench.kinds["listening"].result
    assert result.accept.isVisible() and result.accept.isEnabled()
    assert stage.figures["sensitivity"].text().startswith("48.9")
    assert "spectrum" in stage.spectrum.series
    before = len(demo_lab.ledger().entry("GM-03").history)
    result.accept.click()
    until(lambda: len(demo_lab.ledger().entry("GM-03").history) == before + 1, 20)
    until(lambda: not bench.aside.open)
    assert result.accept.text() == "In the ledger" and not result.accept.isEnabled()
    assert demo_lab.ledger().entry("GM-03").last.as_state == "check"
    assert "Check of GM-03 accepted" in window.strip.text()


# --- parts -----------------------------------------------------------------------------------------------------------


def test_a_click_on_a_hit_that_was_put_aside_overrules_it(qtbot: Any) -> None:
    strip = HitStrip()
    qtbot.addWidget(strip)
    strip.resize(400, 64)
    hits = [
        {"number": 1, "t": 1.0, "peak": 60.0, "fault": None},
        {"number": 2, "t": 4.0, "peak": 55.0, "fault": "double hit"},
    ]
    strip.show_hits(hits, 5)
    strip.grab()
    asked: list[int] = []
    strip.clicked.connect(asked.append)
    for i in (0, 1):
        QTest.mouseClick(strip, Qt.MouseButton.LeftButton, pos=strip.box(i).center().toPoint())
    assert asked == [2]
    QTest.mouseMove(strip, strip.box(1).center().toPoint())
    hits[1]["overruled"] = "seen by K.B."
    QTest.mouseClick(strip, Qt.MouseButton.LeftButton, pos=strip.box(1).center().toPoint())
    assert asked == [2]


def typed(lines: list[str]) -> None:
    """Types each line and Enter into the dialog that is open; "esc" leaves it."""
    shown = QApplication.activeModalWidget()
    assert isinstance(shown, LineDialog)
    for text in lines:
        if text == "esc":
            QTest.keyClick(shown, Qt.Key.Key_Escape)
            return
        QTest.keyClicks(shown.line, text)
        QTest.keyClick(shown.line, Qt.Key.Key_Return)


def test_overruling_asks_for_a_reason(window: MainWindow, demo_lab: Any, monkeypatch: Any) -> None:
    bench = opened(window, plan_of(demo_lab, "impact"))
    orders: list[tuple[str, dict[str, Any]]] = []
    monkeypatch.setattr(bench.link, "order", lambda name, **body: orders.append((name, body)))
    bench.link.blockSignals(True)  # the dialog turns the event loop: no picture of the real run meanwhile
    monkeypatch.setattr(bench, "state", "running")
    bench.kinds["listening"].overrule(3)
    typed(["", "esc"])
    assert orders == []  # no reason, no overruling
    bench.kinds["listening"].overrule(3)
    typed(["cable slapped"])
    assert orders == [("overrule", {"number": 3, "note": "cable slapped"})]
    bench.kinds["listening"].stage.hits.level.put(12.0)
    bench.kinds["listening"].stage.hits.level.sigPositionChangeFinished.emit(bench.kinds["listening"].stage.hits.level)
    assert orders[-1] == ("trigger", {"level": pytest.approx(12.0)})
    monkeypatch.setattr(bench, "state", "done")


def test_rows_of_what_is_listened_to() -> None:
    lamps = {"force": {"state": "cold", "share": 0.01, "text": "range wasted: down to 0.3 V"}}
    rows = running_rows({"wanted": 5, "good": 2, "hits": [{"fault": "double"}], "lamps": lamps, "left": 0.1})
    assert rows[0][1] == "2 of 5" and rows[1][1] == "1"
    assert rows[2][4:] == ("open", "range wasted: down to 0.3 V")
    assert "not died out" in rows[3][5]
    rows = running_rows(
        {"rpm": None, "spread": 0.0, "why": "no pulses", "overall": [], "unit": "Pa", "map": {"rpm": []}}
    )
    assert rows[0][4:] == ("open", "no pulses")
    live = {"levels": [0.0, 0.3], "steadiness": 0.1, "distortion": 5.0, "tone": 1000.0, "at": 0.0, "of": 4.0}
    rows = running_rows(live)
    assert rows[0][4] == "open" and rows[1][4] == "open"
    assert running_rows({}) == []


def test_the_tone_stage_says_what_is_missing(qtbot: Any) -> None:
    stage = ToneStage()
    qtbot.addWidget(stage)
    live = {
        "stage": "no tone", "text": "put the calibrator on", "levels": [], "every": 0.125, "tone": None,
        "distortion": None, "sensitivity": None, "change": None, "steadiness": 0.1, "picture": {"t": [0, 1], "v": [0, 0]},
    }  # fmt: skip
    stage.show_board(Board(state="running", live=live))
    assert stage.told.text() == "No tone: put the calibrator on"
    assert stage.figures["tone"].text() == "none" and stage.figures["sensitivity"].text() == "–"


def order_map(orders: tuple[float, ...] = (2.0,)) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """A map whose only lines are orders of 0.1 Pa, over a floor of 1 mPa."""
    f, rpm = np.arange(0, 500, 2.0), np.arange(600, 3000, 50.0)
    rows = np.full((rpm.size, f.size), 1e-3)
    for k in orders:
        for i, v in enumerate(rpm):
            j = int(round(k * v / 60 / 2))
            if j < f.size:
                rows[i, j] = 0.1
    return f, rpm, rows


def test_cursors_on_the_map_cut_their_slices(qtbot: Any) -> None:
    view = MapView()
    qtbot.addWidget(view)
    view.resize(900, 500)
    view.show()
    f, rpm, rows = order_map()
    view.show_map(f, rpm[::-1], rows[::-1], "Pa")  # a run-down comes from the top
    level = 20 * np.log10(0.1 / 20e-6)
    assert view.slices[0].table["order"][1] == pytest.approx(np.full(rpm.size, level))
    view.chart.put_order(3.0)
    view.cut()
    assert np.nanmax(view.slices[0].table["order"][1]) < level - 20
    view.chart.frequency.put(60.0)
    line = view.slices[1].table["line"]
    assert line[0][int(np.argmax(line[1]))] == pytest.approx(1800, abs=60)  # order 2 crosses 60 Hz there
    # Drag the order cursor from 3 to about 2: it snaps to the whole order.
    box = view.chart.getPlotItem().getViewBox()

    def at(order: float, v: float = 2000.0) -> QPoint:
        return view.chart.mapFromScene(box.mapViewToScene(QPointF(order * v / 60, v)))

    pane = view.chart.viewport()
    QTest.mousePress(pane, Qt.MouseButton.LeftButton, pos=at(3.0))
    assert view.chart.hold
    QTest.mouseMove(pane, at(2.03))
    QTest.mouseRelease(pane, Qt.MouseButton.LeftButton, pos=at(2.03))
    assert view.chart.order == 2.0 and not view.chart.hold
    assert view.titles[0].text().startswith("Order 2,")
    view.repaint_charts()
    # Upwards the time instead: the order bends with the speed; over orders it stands upright.
    times = np.linspace(0, 20, rpm.size)
    view.show_map(f, rpm[::-1], rows[::-1], "Pa", times, "Hz", "s")
    assert view.chart.y_unit == "s" and view.chart.place(2.0)[0] == pytest.approx(2 * rpm[-1] / 60)
    assert view.slices[0].table["order"][1] == pytest.approx(np.full(rpm.size, level))
    orders = np.arange(0, 6, 0.5)
    view.show_map(orders, rpm, np.where(orders == 2.0, 0.1, 1e-3) * np.ones((rpm.size, 1)), "Pa", over="order")
    assert not view.chart.frequency.isVisible() and np.all(view.chart.place(2.0) == 2.0)
    assert view.slices[0].table["order"][1] == pytest.approx(np.full(rpm.size, level))
    assert view.slices[1].table["all"][0].tolist() == orders.tolist()


def test_hits_before_the_run_show_what_the_sensors_show(qtbot: Any, demo_lab: Any) -> None:
    stage = HitStage()
    qtbot.addWidget(stage)
    stage.show_prepared(prepare(plan_of(demo_lab, "impact")), True)
    wave = {"t": [0.0, 0.001], "force": [0.0, 0.01], "response": [0.0, 0.02]}
    stage.show_board(Board(state="walk-round", wave=wave))
    assert "wave" in stage.pulse.series
    live = {"stage": "ranging", "trials": 1, "trials_wanted": 3, "trigger": 8.0, "hits": [], "wanted": 5}
    stage.show_board(Board(state="running", live=live))
    assert "wave" not in stage.pulse.series and "1 of 3" in stage.told.text()
    assert stage.level.get() == pytest.approx(8.0)


# --- the Lightbox ----------------------------------------------------------------------------------------------------


def finding(key: str = "frf_magnitude", by: float = 1.0, method: str = "impact-response") -> Finding:
    x = np.linspace(10, 1000, 100)
    y = by * (1 + 20 / (1 + ((x - 300) / 8) ** 2))
    return Finding(method, (), (Curve(key, "Accelerance", tuple(x), tuple(y), "Hz", "(m/s²)/N"),))


def test_curves_over_one_another_taken_together_and_read(qtbot: Any) -> None:
    view = OverlayView()
    qtbot.addWidget(view)
    view.show_findings([Shown("plate 1", finding()), Shown("plate 2", finding(by=2.0))])
    assert {"take0", "take1"} <= set(view.chart.table) and view.chart.log_y
    assert "plate 1" in view.legend.text() and "plate 2" in view.legend.text()
    view.normal.click()
    assert view.chart.table["take1"][1].max() == pytest.approx(1.0)
    view.normal.click()
    view.offset.click()
    ratio = view.chart.table["take1"][1] / view.chart.table["take0"][1]
    assert ratio == pytest.approx(2 * np.sqrt(10))
    view.offset.click()
    view.way.setCurrentText("ratio")
    view.draw()
    assert view.chart.table["together"][1] == pytest.approx(0.5)
    assert view.made is not None and view.made.key == "frf_magnitude-ratio"
    view.way.setCurrentText("apart")
    view.draw()
    view.pick.setCurrentText("peak")
    view._set_cursor()
    assert view.handles[0].get() == pytest.approx(300, abs=6)
    view.handles[0].put(330.0)
    view.snap()
    assert view.handles[0].get() == pytest.approx(300, abs=6)
    view.pick.setCurrentText("delta")
    view.place_cursors(300.0, 500.0)
    assert "Δ 200 Hz" in view.reading.text() and "dB" in view.reading.text()
    for kind, word in (("harmonics", "2. "), ("sidebands", "± k·"), ("band", "rms of the band"), ("order", "2. ")):
        view.pick.setCurrentText(kind)
        view._set_cursor()
        assert word in view.reading.text(), kind
    view.pick.setCurrentText("no cursor")
    view._set_cursor()
    assert view.handles == [] and view.reading.text() == ""
    view.show_findings([])
    assert view.chart.table == {}
    view.repaint_charts()


def pulse_record(n: int = 200_000, rate: float = 20_000.0) -> Recording:
    t = np.arange(n) / rate
    x = 2.0 * (np.mod(t, 0.1) < 0.02)
    return Recording(
        "made", (channel_of("pulse", "V", rate, x), channel_of("tone", "Pa", rate, np.sin(2 * np.pi * 440 * t)))
    )


def test_a_record_is_cropped_and_read(qtbot: Any, tmp_path: Path) -> None:
    view = RecordView()
    qtbot.addWidget(view)
    view.show_recording(pulse_record(), tmp_path / "cache")
    assert {"pulse", "tone"} <= set(view.chart.series)
    assert sorted(p.name for p in (tmp_path / "cache").iterdir()) == ["pulse.npz", "tone.npz"]
    view.choose("pulse")
    view.set_crop(4.0, 2.0)  # the lines may be crossed
    assert view.crop() == (2.0, 4.0)
    assert view.span.text() == "2 s to 4 s · 2 s"
    assert "20 pulses" in view.told.text() and "width 20" in view.told.text() and "rest 80" in view.told.text()
    cropped = view.cropped()
    assert cropped.labels == ["pulse"] and cropped.channels[0].duration == 2.0
    view.chart.setXRange(2.0, 2.001, padding=0)
    assert view.chart.table["pulse"][0].size < 30  # single samples
    view.repaint_charts()


def test_a_long_record_is_indexed_aside_and_opens_at_once_the_next_time(qtbot: Any, tmp_path: Path) -> None:
    n, reads = 6_000_000, []

    def load(a: int, b: int) -> np.ndarray:
        reads.append(b - a)
        return np.sin(np.arange(a, b) * 1e-3)

    record = Recording("long", (Channel("x", "V", 1000.0, n, load),))
    view = RecordView()
    qtbot.addWidget(view)
    view.show_recording(record, tmp_path)
    assert "6 million samples once" in view.told.text()
    until(lambda: "x" in view.chart.series, 30)
    assert sum(reads) >= n
    reads.clear()
    again = RecordView()
    qtbot.addWidget(again)
    again.show_recording(record, tmp_path)
    assert "x" in again.chart.series and reads == [n]  # only the figures of the whole crop read samples
    again.set_crop(0.0, 1.0)
    assert time_text(6000.0) == "1.667 h" and time_text(2e-5) == "20 µs"
    assert "rms" in figures_text(figures(load(0, 9), 1.0), "V")


def test_filters_on_the_spectrum_are_heard_and_written(qtbot: Any, tmp_path: Path, monkeypatch: Any) -> None:
    monkeypatch.setattr(Player, "device", staticmethod(lambda: None))
    view = ListenView()
    qtbot.addWidget(view)
    t = np.arange(40_000) / 20_000
    view.show_signal(
        np.sin(2 * np.pi * 440 * t) + np.sin(2 * np.pi * 3000 * t), 20_000, "Pa", "mic", 5.0, tmp_path / "a.wav"
    )
    assert "No sound output" in view.told.text()
    view.adds["low-pass"].click()
    view.regions[0].setRegion((np.log10(20), np.log10(1000)))
    view.apply()
    assert {"heard", "plain"} <= set(view.spectrum.series) & set(view.wave.series)
    assert view.said.text() == "low-pass to 1000 Hz"
    # Edges are typed as well.
    view.said.setText("bandpass 0.2 to 1 kHz; high-pass from 40")
    view.typed()
    assert [(b.kind, round(b.low, 3)) for b in view.bands()] == [("band-pass", 200), ("high-pass", 40)]
    assert view.said.text() == "band-pass 200 to 1000 Hz, high-pass from 40 Hz" and not view.wrong.isVisibleTo(view)
    view.said.setText("band-pass 3 kHz to 300 Hz")
    view.typed()
    assert "lower edge comes first" in view.wrong.text() and len(view.bands()) == 2
    view.said.setText("low-pass to 1 kHz")
    view.typed()
    view.go.click()
    made = read(tmp_path / "a.wav")
    assert made.channels[0].rate == RATE
    x = made.channels[0].samples()[10_000:]
    spectrum = np.abs(np.fft.rfft(x * np.hanning(x.size)))
    f = np.fft.rfftfreq(x.size, 1 / RATE)
    low, high = spectrum[np.abs(f - 440) < 20].max(), spectrum[np.abs(f - 3000) < 20].max()
    assert high < 0.03 * low
    view.on.click()
    assert view.on.text() == "Not filtered"
    (tmp_path / "a.wav").unlink()
    view.go.click()
    x = read(tmp_path / "a.wav").channels[0].samples()[10_000:]
    spectrum = np.abs(np.fft.rfft(x * np.hanning(x.size)))
    low, high = spectrum[np.abs(f - 440) < 20].max(), spectrum[np.abs(f - 3000) < 20].max()
    assert high == pytest.approx(low, rel=0.1)
    view.clear()
    assert "heard" not in view.wave.series
    for kind in ("band-stop", "band-pass", "high-pass"):
        view.add(kind)
    assert view.said.text().startswith("band-stop 900 to 1100 Hz, band-pass")
    view.repaint_charts()


def refuse(place: Path, _recording: Any) -> None:
    raise BadInput(f"{place}: it can't be written (no room).")


def test_the_lightbox_reads_a_take_again_and_opens_a_strangers_file(
    window: MainWindow, demo_lab: Any, tmp_path: Path, monkeypatch: Any
) -> None:
    take = kept_take(prepare(plan_of(demo_lab, "impact")), 1.0)
    take.keep(evaluate_take(take))
    window.go("Lightbox")
    box = window.place("Lightbox")
    assert box.list.count() == 1 and box.overlay.which.currentData() == "frf_magnitude"
    box.read_again()
    sheet = box.again.sheet
    sheet.rows["block"].box.setText("few")
    sheet.rows["block"].box.editingFinished.emit()
    assert sheet.rows["block"].wrong.isVisible() and box.again.given == take.plan().step.settings
    sheet.rows["block"].box.setText("8192")
    sheet.rows["block"].box.editingFinished.emit()
    assert not sheet.rows["block"].wrong.isVisible() and box.again.given["block"] == 8192
    box.again.go.click()
    until(lambda: box.list.count() == 2, 30)
    assert len(take.finding_files()) == 2 and "kept beside the new one" in box.hint.text()
    assert "readings differ" in box.again.told.text() or "No reading differs" in box.again.told.text()
    out = tmp_path / "table.csv"
    box.export_to(out)
    until(lambda: out.exists() and "Written" in box.hint.text(), 20)
    assert out.read_text(encoding="utf-8-sig").count("impact-response") == 1
    assert [box.list.item(i).text().split(" · ")[2] for i in range(2)] == ["reading 2", "reading 1"]
    # The crop goes out as a spreadsheet and comes back in as a stranger's file.
    box.tabs.choose("raw")
    box.record.choose("force")
    box.record.set_crop(1.0, 1.5)
    place = tmp_path / "crop.xlsx"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(place.with_suffix("")), "XLSX (*.xlsx)"))
    box.save_crop()
    until(lambda: place.exists() and "Written" in box.hint.text(), 20)
    assert read(place).channels[0].length == 12800
    # Over a file that is there: it goes only when the new one is whole.
    monkeypatch.setattr("lucid_anvil.desktop.lightbox.place.write", refuse)
    box.save_crop()
    until(lambda: "no room" in box.hint.text(), 20)
    assert read(place).channels[0].length == 12800
    csv = tmp_path / "foreign.csv"
    write(csv, pulse_record(4000))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_a, **_k: (str(csv), ""))
    box.choose_file()
    assert box.list.currentItem().text() == "foreign.csv" and "pulse" in box.record.chart.series
    box.read_again()  # which asks how
    sheet = QApplication.activeModalWidget()
    assert sheet is not None and sheet.file == csv
    sheet.reject()
    monkeypatch.setattr(Player, "device", staticmethod(lambda: None))
    box.tabs.choose("listen")
    assert box.sound.name == "pulse" and box.stack.currentWidget() is box.sound
    box.repaint_charts()


def test_block_lines_and_bandwidth_fix_one_another(window: MainWindow, demo_lab: Any) -> None:
    place = plan_of(demo_lab, "impact")
    bench = opened(window, place)
    entries = bench.kinds["listening"].stage.hits.linked
    assert entries.isVisible() and entries.entries["seconds"].text() == "0.64 s"

    def typed(key: str, text: str) -> None:
        entries.entries[key].setText(text)
        entries.entries[key].editingFinished.emit()
        until(lambda: not bench.aside.open, 20)

    typed("lines", "3200")  # at the same bandwidth half the block
    assert bench.prepared.settings.block == 8192
    typed("bandwidth", "5 kHz")  # the lines stay
    assert bench.prepared.settings.block == 16384 and entries.lines == 3200
    typed("seconds", "1.28 s")
    assert bench.prepared.settings.block == 32768 and entries.lines == 6400
    typed("bandwidth", "20 kHz")
    assert "more than 25600 Hz" in window.strip.text() and bench.prepared.settings.block == 32768
    entries.before.setText("10 %")
    entries.before.editingFinished.emit()
    until(lambda: bench.prepared.settings.pretrigger == 10.0, 20)
    entries.before.setText("95 %")
    entries.before.editingFinished.emit()
    assert entries.before.text() == "10 %" and "below 90" in window.strip.text()
    typed("lines", "many")
    assert entries.entries["lines"].text() == "6400"
    assert load_yaml(place)["steps"][0]["settings"]["block"] == 32768


def test_any_two_of_block_lines_and_bandwidth() -> None:
    assert linked(25600, 0.5, 4000, None) == (0.5, 4000, 8000.0)
    assert linked(25600, None, 4000, 8000.0) == (0.5, 4000, 8000.0)
    assert linked(25600, 0.5, None, 8000.0) == (0.5, 4000, 8000.0)
    with pytest.raises(BadInput, match="two of"):
        linked(25600, 0.5, 4000, 8000.0)
    with pytest.raises(BadInput, match="64 samples"):
        linked(25600, 0.001, None, 1000.0)


def test_a_chart_is_saved_as_a_picture_that_says_what_it_shows(qtbot: Any, tmp_path: Path, monkeypatch: Any) -> None:
    view = OverlayView()
    qtbot.addWidget(view)
    view.show_findings([Shown("plate 1", finding())])
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(tmp_path / "p"), ""))
    view.chart.save_picture()
    assert QImage(str(tmp_path / "p.png")).text("Description") == "plate 1"


def test_the_operator_is_led_from_point_to_point(window: MainWindow, demo_lab: Any) -> None:
    place = plan_of(demo_lab, "impact")
    plan = load_yaml(place)
    plan["steps"][0]["settings"] |= {"points": ["corner", "edge"], "hits": 2, "trial_hits": 0, "trigger": "5 N"}
    place.write_text(dump_yaml(plan), encoding="utf-8")
    bench = opened(window, place)
    assert len(bench.kinds["listening"].stretches.items) == 2 and not bench.kinds["listening"].next.isVisible()
    begin(window)
    until(lambda: bench.kinds["listening"].next.isVisible(), 120)
    assert bench.kinds["listening"].stage.hits.told.text() == "Point corner is done: move on to edge, then Next point."
    window.setFocus()
    QTest.keyClick(window, Qt.Key.Key_P)
    until(lambda: bench.state == "done" and bench.finding is not None, 120)
    assert {"frf_magnitude@edge", "shape_mode1"} <= {c.key for c in bench.finding.curves}
    assert Take(bench.take).status() == "done"


def test_a_record_too_slow_to_be_heard_says_so(qapp: Any, tmp_path: Path) -> None:
    view = ListenView()
    rng = np.random.default_rng(4)
    view.show_signal(rng.normal(size=8000), 8000.0, "Pa", "quick", 0.0, tmp_path / "a.wav")
    assert "plain" in view.spectrum.series
    view.show_signal(np.arange(300.0), 10.0, "N", "force", 0.0, tmp_path / "b.wav")
    assert "too few to be heard" in view.told.text() and "plain" not in view.spectrum.series
    view.repaint_charts()
    view.toggle()
    assert not view.player.playing and not (tmp_path / "b.wav").exists()
