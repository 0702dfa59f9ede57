"""From an empty folder to a result with mouse and keys alone: each test counts the actions that a person needs."""

from __future__ import annotations

import datetime
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QComboBox, QLineEdit, QPlainTextEdit
from tests.test_desktop import leave, until

from lucid_anvil.desktop.parts.forms import Sheet
from lucid_anvil.desktop.shell.beginning import BeginningWindow
from lucid_anvil.desktop.shell.window import MainWindow
from lucid_anvil.lab.place import open_lab
from lucid_anvil.lab.textfiles import load_yaml


class Person:
    """Somebody before the window: every click, key chord and typed field is one action, and only those are used."""

    def __init__(self, qtbot: Any, folder: Path, stand_ins: bool) -> None:
        self.actions = 0
        first = BeginningWindow(folder, [])
        qtbot.addWidget(first)
        made: list[Any] = []
        first.begun.connect(made.append)
        for key, text in (("name", "North Quay Test Lab"), ("initials", "K.B.")):
            self.did()
            first.fields.boxes[key].setText(text)  # type: ignore[union-attr]
        if stand_ins:
            self.did()
            first.stand_ins.click()
        self.click(first.go)
        self.window = MainWindow(made[0], pace="fast")
        self.window.resize(1280, 800)
        self.window.show()
        self.bench = self.window.bench

    def did(self) -> None:
        self.actions += 1

    def click(self, widget: Any) -> None:
        self.did()
        assert widget.isEnabled(), widget.text()
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton)

    def type(self, box: Any, text: str) -> None:
        self.did()
        if isinstance(box, QComboBox):
            assert box.findText(text) >= 0, [box.itemText(i) for i in range(box.count())]
            box.setCurrentText(text)
            box.activated.emit(box.currentIndex())
        elif isinstance(box, QPlainTextEdit):
            box.setPlainText(text)
        else:
            assert isinstance(box, QLineEdit)
            box.setText(text)
            box.returnPressed.emit()
            box.editingFinished.emit()

    def key(self, key: Qt.Key, modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
        self.did()
        self.window.activateWindow()
        until(self.window.isActiveWindow)
        QTest.keyClick(self.window, key, modifier)

    def sheet(self, **values: str) -> None:
        """Fill the sheet that is open, and say yes."""
        shown = QApplication.activeModalWidget()
        assert isinstance(shown, Sheet)
        for key, text in values.items():
            self.did()
            box = shown.fields.boxes[key]
            if isinstance(box, QComboBox):
                at = next(i for i in range(box.count()) if box.itemText(i).startswith(text))
                box.setCurrentIndex(at)
            elif isinstance(box, QPlainTextEdit):
                box.setPlainText(text)
            else:
                box.setText(text)
        self.click(shown.yes)
        assert not shown.isVisible(), shown.wrong.text()

    def settled(self) -> None:
        until(lambda: not self.bench.aside.open)
        QApplication.processEvents()

    def awake(self) -> None:
        """The walk-round of what was opened last is there."""
        until(lambda: not self.bench.aside.open and self.bench.state == "walk-round" and bool(self.bench.walk.shown))

    def new_test(self, method: str, **values: str) -> None:
        self.key(Qt.Key.Key_T, Qt.KeyboardModifier.ControlModifier)
        shown = QApplication.activeModalWidget()
        self.did()
        shown.rows[method].clicked.emit(method)  # type: ignore[union-attr]
        self.sheet(**values)
        self.awake()

    def cell(self, row: int, column: int, text: str) -> None:
        self.did()
        self.bench.kinds["shaker"].stage.table.table.item(row, column).setText(text)  # type: ignore[union-attr]
        self.settled()

    def type_into_asked(self, text: str) -> None:
        """One line that the window asked for."""
        asked = QApplication.activeModalWidget()
        self.did()
        asked.line.setText(text)  # type: ignore[union-attr]
        asked._take()  # type: ignore[union-attr]
        self.settled()

    def setting(self, key: str, text: str) -> None:
        """A setting in the sheet of settings, which must be open."""
        self.type(self.bench.editing.sheet.rows[key].box, text)
        self.settled()
        row = self.bench.editing.sheet.rows[key]
        assert not row.wrong.isVisible(), row.wrong.text()

    def run(self, most: float = 180.0) -> Any:
        """Sign what is to be signed, begin, and wait for the finding."""
        for check in [c for c in self.bench.walk.shown if c.kind == "signed"]:
            self.did()
            self.bench.walk.sign.emit(check.key, "K.B.")
        until(self.bench.walk.go.isEnabled)
        self.click(self.bench.walk.go)
        until(lambda: self.bench.state == "done" and not self.bench.aside.open, most)
        assert self.bench.finding is not None, self.window.strip.text()
        return self.bench.finding

    def settings(self) -> dict[str, Any]:
        return dict(load_yaml(self.bench.plan_file)["steps"][0]["settings"])  # type: ignore[arg-type]


@pytest.fixture
def person(qtbot: Any, tmp_path: Path) -> Any:
    made: list[Person] = []

    def begin(stand_ins: bool = True) -> Person:
        made.append(Person(qtbot, tmp_path / "own", stand_ins))
        return made[-1]

    yield begin
    for one in made:
        leave(one.window)


Begin = Callable[..., Person]
POINTS = "Hz; mV/(m/s²); %\n" + "\n".join(f"{f:.5g}; {10.03 + 1e-5 * f:.5f}; 0.5" for f in np.geomspace(10, 10000, 30))


def test_an_own_reference_calibrates_an_own_sensor_to_its_certificate(person: Begin) -> None:
    p = person(stand_ins=False)
    today = datetime.date.today()
    ledger = p.window.ledger
    p.click(ledger.new)
    p.sheet(serial="R-1", nominal="10 mV/(m/s²)", use="reference")
    p.click(ledger.paper)
    p.sheet(
        value="10.0316 mV/(m/s²)", doubt="0.5 %", date=f"{today - datetime.timedelta(60)}", lab="Institute", number="77/26",
        due=f"{today + datetime.timedelta(600)}", table=POINTS,
    )  # fmt: skip
    p.click(ledger.new)
    p.sheet(serial="W-1", nominal="10 mV/(m/s²)", tolerance="5 %")
    p.key(Qt.Key.Key_R, Qt.KeyboardModifier.ControlModifier)
    p.sheet()
    p.sheet(name="Bench 1", kind="Stand-in shaker for comparisons")
    p.awake()
    stage = p.bench.kinds["hookup"].stage
    for role, serial in (("reference", "R-1"), ("unit", "W-1")):
        p.did()
        at = next(i for i, lane in enumerate(stage.lanes) if lane.facts.role == role)
        stage.plugged.emit(at, serial)
        until(lambda s=serial: any(s in lane.facts.detail for lane in stage.lanes))
        p.awake()
    p.key(Qt.Key.Key_1, Qt.KeyboardModifier.ControlModifier)
    ledger.reload("W-1")
    p.click(ledger.go)
    until(lambda: p.bench.prepared.method.name == "accelerometer-comparison")
    p.awake()
    assert p.bench.prepared.plan.sensors["reference"].serial == "R-1"
    finding = p.run()
    # Both stand-ins have their nominal value as their truth; the reference's certificate says 10.03.
    value = next(r for r in finding.readings if r.key == "sensitivity")
    assert value.value == pytest.approx(10.0316, rel=0.01) and finding.verdict == "inside"
    p.click(p.bench.kinds["comparison"].result.go)
    until(lambda: len(p.window.lab.history("W-1")) == 1)
    kept = open_lab(p.window.lab.folder).history("W-1")[0]
    assert kept.certificate == "NQTL-2026-0001"
    until(lambda: bool(list(p.window.lab.certificates.glob(f"{kept.certificate}*.pdf"))))
    assert p.actions <= 45


def test_a_sine_test_from_a_typed_table_with_two_sweeps_and_a_dwell(person: Begin) -> None:
    p = person()
    before = p.actions
    p.new_test("sine-sweep", article="Bracket 7", title="Sine 20 to 400")
    table = p.bench.kinds["shaker"].stage.table
    p.cell(0, 0, "20 Hz")
    p.cell(1, 0, "400 Hz")
    p.cell(0, 1, "1 mm")
    for row, frequency, level in ((0, "45 Hz", "30 m/s^2"), (1, "100 Hz", "2 g"), (2, "200 Hz", "15 m/s^2")):
        table.table.setCurrentCell(row, 0)
        p.click(table.add)
        p.settled()
        p.cell(row + 1, 1, level)
        p.cell(row + 1, 0, frequency)
    p.type(table.lines["tolerance"], "±3 dB")
    p.settled()
    p.type(table.lines["abort"], "±6 dB")
    p.settled()
    p.type(table.lines["rate"], "8 oct/min")
    p.settled()
    for words in ("Sweep down", "Dwell on the resonance"):
        p.click(p.bench.kinds["shaker"].more)
        menu = p.bench.kinds["shaker"].menu
        p.did()
        next(a for a in menu.actions() if a.text() == words).trigger()
        menu.close()
        p.settled()
    made = p.actions - before
    held = p.settings()
    assert [s.get("until") for s in held["profile"]["segments"]] == ["45 Hz", "100 Hz", "200 Hz", None]
    assert held["course"] == [{"sweep": "up"}, {"sweep": "down"}, {"follow": "resonance", "duration": "1 min"}]
    assert made <= 40, made
    p.bench.kinds["shaker"].stretches.stretched.emit(len(p.bench.kinds["shaker"].stretches.items) - 1, 8.0)
    p.settled()
    finding = p.run()
    by = {r.key: r.value for r in finding.readings}
    assert by["in_tolerance"] > 99 and by["dwell_1_duration"] > 5 and abs(by["dwell_1_phase_error"]) < 3


def test_a_random_test_from_a_pasted_table(person: Begin) -> None:
    p = person()
    before = p.actions
    p.new_test("random-vibration", article="Bracket 7")
    QGuiApplication.clipboard().setText("f [Hz]\tPSD [g^2/Hz]\n20\t0.001\n80\t0.004\n350\t0.004\n500\t0.002\n")
    p.click(p.bench.kinds["shaker"].stage.paste)
    p.settled()
    table = p.bench.kinds["shaker"].stage.table
    assert [r[0] for r in [(table.table.item(i, 0).text(),) for i in range(table.table.rowCount())]] == [
        "20",
        "80",
        "350",
        "500",
    ]
    p.type(table.lines["tolerance"], "−2 dB / +3 dB")
    p.settled()
    assert p.settings()["profile"]["tolerance"] == {"low": "-2 dB", "high": "3 dB"}
    made = p.actions - before
    p.bench.kinds["shaker"].stretches.stretched.emit(1, 20.0)
    p.settled()
    finding = p.run()
    by = {r.key: r for r in finding.readings}
    assert by["rms"].value == pytest.approx(p.bench.prepared.settings.random().solved().rms(), rel=0.05)
    assert made <= 10, made


def test_a_record_with_a_high_pass_and_three_repeats(person: Begin, tmp_path: Path) -> None:
    p = person()
    t = np.arange(2000) / 1000
    x = 8 * np.sin(2 * np.pi * (15 * t + 8 * t**2)) * np.sin(np.pi * t / 2) ** 2 + 0.2
    file = tmp_path / "road.csv"
    file.write_text("t [s],deck [m/s^2]\n" + "\n".join(f"{a:.4f},{b:.5f}" for a, b in zip(t, x, strict=True)) + "\n")
    before = p.actions
    p.new_test("time-replication", article="Bracket 7", record=str(file))
    p.type(p.bench.kinds["shaker"].stage.fields.boxes["high_pass"], "5 Hz")
    p.settled()
    p.did()
    p.bench.kinds["shaker"].change_stretch(0)
    p.sheet(repeats="3")
    p.settled()
    made = p.actions - before
    assert (
        p.settings()["course"] == [{"history": True, "repeats": 3}] and p.settings()["profile"]["high_pass"] == "5 Hz"
    )
    assert file.read_text() == (p.bench.plan_file.parent / "road.csv").read_text()
    finding = p.run()
    by = {r.key: r for r in finding.readings}
    assert by["rms_error"].value is not None and by["rms_error"].value < 20
    assert made <= 10, made


def test_a_hammer_with_eight_hits_and_an_exponential_window(person: Begin) -> None:
    p = person()
    before = p.actions
    p.new_test("impact-response", article="Lid")
    p.key(Qt.Key.Key_T)
    p.setting("hits", "8")
    p.setting("response_decay", "0.3 s")
    made = p.actions - before
    assert p.settings() == {"hits": 8, "response_decay": "0.3 s"} | {
        k: v for k, v in p.settings().items() if k not in ("hits", "response_decay")
    }
    finding = p.run()
    by = {r.key: r for r in finding.readings}
    assert p.bench.prepared.settings.hits == 8 and by, by
    assert made <= 10, made


def test_a_run_up_with_four_orders(person: Begin) -> None:
    p = person()
    before = p.actions
    p.new_test("speed-orders", article="Pump")
    p.key(Qt.Key.Key_T)
    p.setting("orders", "[1, 2, 5, 10]")
    made = p.actions - before
    finding = p.run()
    orders = {c.key for c in finding.curves if c.key.startswith("order")}
    assert len(orders) == 4, orders
    assert made <= 10, made


def test_an_amplifier_sheet_of_six_own_steps_with_limits(person: Begin) -> None:
    p = person()
    before = p.actions
    p.new_test("amplifier-sheet", article="Horn amplifier 2")
    p.click(p.bench.kinds["amplifier"].edit)
    sheet = QApplication.activeModalWidget()
    p.did()
    sheet.list.selectAll()  # type: ignore[union-attr]
    p.did()
    sheet.remove()  # type: ignore[union-attr]
    sheet.done_with()  # type: ignore[union-attr]
    assert sheet.isVisible() and "a step at least" in sheet.wrong.text()  # type: ignore[union-attr]
    limits = {"output-offset": "{offset: {low: -50 mV, high: 50 mV}}", "output-gain": "{gain: {low: 20 dB, high: 30 dB}}",
              "output-distortion": "{thd_plus_n: {high: 1 %}}"}  # fmt: skip
    for method in (
        "output-offset",
        "output-gain",
        "output-distortion",
        "output-noise",
        "output-separation",
        "output-gain",
    ):
        p.did()
        p.did()  # the menu, and what is chosen in it
        sheet.add(method)  # type: ignore[union-attr]
        if method in limits:
            p.type(sheet.fields.boxes["limits"], limits.pop(method))  # type: ignore[union-attr]
    p.click(sheet.yes)  # type: ignore[union-attr]
    p.settled()
    made = p.actions - before
    steps = load_yaml(p.bench.plan_file)["steps"]
    assert [s["name"] for s in steps] == ["dc offset", "gain", "distortion of a tone", "noise", "separation", "gain 2"]
    finding = p.run()
    judged = [r for r in finding.readings if r.verdict != "none"]
    assert {r.key.split("_")[0] for r in judged} == {
        "dc-offset",
        "gain",
        "distortion-of-a-tone",
    } and finding.verdict == "inside"
    assert made <= 30, made


def test_a_plan_of_four_steps_of_three_methods_with_a_comparison(person: Begin, tmp_path: Path) -> None:
    p = person()
    before = p.actions
    p.new_test("sine-sweep", article="Bracket 7", title="Search")
    table = p.bench.kinds["shaker"].stage.table
    p.cell(0, 0, "80 Hz")
    p.cell(1, 0, "160 Hz")
    p.type(table.lines["rate"], "12 oct/min")
    p.settled()
    p.click(p.bench.kinds["shaker"].more)
    p.did()
    next(a for a in p.bench.kinds["shaker"].menu.actions() if a.text() == "Dwell on the resonance").trigger()
    p.bench.kinds["shaker"].menu.close()
    p.settled()
    p.did()
    p.bench.kinds["shaker"].change_stretch(1)
    p.sheet(duration="6 s", channel="response")
    p.settled()
    p.new_test("random-vibration", article="Bracket 7", title="Endure")
    p.did()
    p.bench.kinds["shaker"].change_stretch(0)
    p.sheet(duration="6 s")
    p.settled()
    t = np.arange(1500) / 1000
    file = tmp_path / "road.csv"
    x = 5 * np.sin(2 * np.pi * (20 * t + 10 * t**2)) * np.sin(np.pi * t / 1.5) ** 2
    file.write_text("t [s],deck [m/s^2]\n" + "\n".join(f"{a:.4f},{b:.5f}" for a, b in zip(t, x, strict=True)) + "\n")
    p.new_test("time-replication", article="Bracket 7", title="Road", record=str(file))
    p.click(p.bench.docket.join)
    p.sheet(title="All of it", step1="Bracket 7 · Search", step2="Bracket 7 · Endure", step3="Bracket 7 · Road",
            step4="Bracket 7 · Search", compare="dwell_1_frequency: 2 Hz")  # fmt: skip
    until(lambda: p.bench.series.isVisible())
    p.awake()
    made = p.actions - before
    for number in range(1, 5):
        assert p.bench.series.title.text() == f"Step {number} of 4"
        p.run()
        if number < 4:
            p.click(p.bench.series.next)
            until(lambda n=number: p.bench.series.title.text() == f"Step {n + 1} of 4" and not p.bench.aside.open)
            p.awake()
    found = p.bench.series.found
    gone = found.reading("moved_dwell_1_frequency")
    # The stand-in does not change between the first and the last search.
    assert found.complete and abs(gone.value) < 1.0 and "Moved" in p.bench.series.told.text()
    assert made <= 60, made
