"""Places of the window on takes that are already there; nothing runs."""

from __future__ import annotations

import datetime
import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QFileDialog
from tests.conftest import short_plan
from tests.test_desktop import leave, until
from tests.test_folio import pdf_text

from lucid_anvil.desktop.lightbox.overlay_view import axis_of
from lucid_anvil.desktop.parts.docket import PlanRow, TakeRow
from lucid_anvil.desktop.shell.window import MainWindow
from lucid_anvil.engine.inprocess import play_through
from lucid_anvil.engine.preparing import plan_as_kept, prepare, rig_as_kept
from lucid_anvil.folio.accepting import accept_take
from lucid_anvil.lab.takes import Take, begin_take, from_file, list_takes
from lucid_anvil.lab.textfiles import dump_yaml


def make_take(lab: Any, number: int, status: str = "done", reason: str | None = None) -> Take:
    """A finished take without raw streams, its finding computed from a play-through."""
    prepared = prepare(short_plan(lab))
    played = play_through(prepared)
    folder = prepared.plan_file.parent / f"take-{number:03d}"
    take = begin_take(folder, dump_yaml(plan_as_kept(prepared)), dump_yaml(rig_as_kept(prepared)))
    events = [
        {"kind": "begin", "wall": datetime.datetime.now().timestamp(), "temperature": 21.4, "humidity": 46.0},
        {"kind": "end", "t": 12.0, "status": status, "reason": reason},
    ]
    (folder / "events.jsonl").write_text("".join(json.dumps(e) + "\n" for e in events))
    take.keep(prepared.method.evaluate(played.channels, prepared.settings, played.marks))
    return take


@pytest.fixture
def window(qapp: Any, demo_lab: Any) -> Iterator[MainWindow]:
    make_take(demo_lab, 1)
    make_take(demo_lab, 2, "cut", "Stroke on table at 3.00 s: 0.013 m against a limit of 0.012 m (cut)")
    made = MainWindow(demo_lab)
    made.show()
    made.go("Bench")
    QApplication.processEvents()
    yield made
    leave(made)


def rows_of(window: MainWindow, kind: type) -> list[Any]:
    layout = window.bench.docket.rows
    found = [layout.itemAt(i).widget() for i in range(layout.count())]
    return [w for w in found if isinstance(w, kind)]


def test_the_docket_lists_plans_and_opens_a_finished_take(window: MainWindow, demo_lab: Any) -> None:
    plans = rows_of(window, PlanRow)
    assert [p.text for p in plans] == [
        "Random",
        "Record",
        "Sine",
        "Check",
        "Run down",
        "Comparison",
        "Check",
        "Sheet",
        "Line",
        "Night",
        "Impact",
        "Tension",
        "Warmed",
        "Cases",
    ]
    assert plans[5].verdict == "outside"  # its newest take was cut
    window.bench.open_take(demo_lab.jobs / "0412" / "comparison-ga-11" / "take-001")
    until(lambda: window.bench.finding is not None)
    bench = window.bench
    assert bench.kinds["comparison"].result.word.text() == "inside"
    assert "take-001 · done" in bench.told.text()
    assert bench.kinds["comparison"].stage.tabs.now == "deviation"
    assert bench.chain.tiles == [] and "take-001 as it was kept" in bench.chain.instead
    assert bench.kinds["comparison"].stage.charts["deviation"].table["deviation"][0].tolist() == [
        63.0,
        125.0,
        160.0,
        250.0,
        500.0,
    ]
    assert [r.facts["name"] for r in rows_of(window, TakeRow)] == ["take 2", "take 1"]
    assert [r.chosen for r in rows_of(window, TakeRow)] == [False, True]
    # A click on the other shows why it was cut, and offers nothing to accept.
    rows_of(window, TakeRow)[0].clicked.emit(demo_lab.jobs / "0412" / "comparison-ga-11" / "take-002")
    until(lambda: bench.kinds["comparison"].result.word.text() == "cut")
    assert "Stroke on table" in bench.kinds["comparison"].result.cut.text()
    assert not bench.kinds["comparison"].result.box.isVisible()
    assert "Stroke on table" in bench.events.text()


def test_a_point_of_the_course_opens_its_budget(window: MainWindow, demo_lab: Any) -> None:
    window.bench.open_take(demo_lab.jobs / "0412" / "comparison-ga-11" / "take-001")
    until(lambda: window.bench.finding is not None)
    window.bench.kinds["comparison"].course.chosen.emit(250.0)
    assert window.bench.kinds["comparison"].stage.tabs.now == "budget"
    assert window.bench.kinds["comparison"].stage.budget.title.text().startswith("250 Hz")
    window.bench.kinds["comparison"].stage.choose("phase")
    window.bench.kinds["comparison"].stage.charts["phase"].on_click(64.0)  # type: ignore[misc]
    assert window.bench.kinds["comparison"].stage.budget.title.text().startswith("63 Hz")


def test_the_lightbox_lays_takes_over_one_another(window: MainWindow) -> None:
    window.go("Lightbox")
    box = window.place("Lightbox")
    assert box.list.count() == 2
    assert {k for k in box.chart.table if k.startswith("take")} == {"take0", "take1"}
    view = box.overlay
    assert not view.keep.isVisible()
    assert [s.name for s in box.ticked()] == ["GA-11 · take-002", "GA-11 · take-001"]
    assert "take-001" in view.legend.text() and "take-002" in view.legend.text()
    before = {t.folder: t.counted() for t in list_takes(window.lab.jobs)}
    for way, key in (("average", "deviation"), ("difference", "deviation-difference")):
        view.way.setCurrentText(way)
        view.draw()
        view.keep.click()
        assert "Kept beside" in box.hint.text()
        made = [f for t in list_takes(window.lab.jobs) for p in t.finding_files() if (f := from_file(p)).notes
                and way in f.notes[-1]]  # fmt: skip
        assert len(made) == 1 and made[0].curves[0].key == key and made[0].verdict == "none"
        assert axis_of(made[0].method, key) == (True, False)
    # What counts is what counted; the kept ones are in the list beside it.
    assert {t.folder: t.counted() for t in list_takes(window.lab.jobs)} == before
    assert box.list.count() == 4
    view.way.setCurrentText("apart")
    view.draw()
    ticked = [i for i in range(4) if box.list.item(i).checkState() == Qt.CheckState.Checked]
    box.list.item(ticked[1]).setCheckState(Qt.CheckState.Unchecked)
    assert {k for k in box.chart.table if k.startswith("take")} == {"take0"}
    box.list.item(ticked[0]).setCheckState(Qt.CheckState.Unchecked)
    assert "Tick takes" in box.hint.text()
    box.tabs.choose("raw")
    assert "no such file" in box.hint.text()  # these takes have no raw streams, and that is said


def test_the_folio_saves_a_copy(window: MainWindow, demo_lab: Any, tmp_path: Path, monkeypatch: Any) -> None:
    take = Take(demo_lab.jobs / "0412" / "comparison-ga-11" / "take-001")
    finding = take.finding()
    assert finding is not None
    number = accept_take(demo_lab, take, finding, "as found", "K.B.", False)
    window.go("Folio")
    folio = window.place("Folio")
    assert folio.title.text() == f"Certificate {number}"
    place = tmp_path / "copy.pdf"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_a, **_k: (str(place), ""))
    folio.save.click()
    assert place.read_bytes() == (demo_lab.certificates / f"{number}.pdf").read_bytes()
    window.ledger.reload("GA-11")
    assert number in [e.last.certificate for e in window.ledger.entries if e.sensor.serial == "GA-11" and e.last]
    assert "overdue" not in window.ledger.due.text()


def test_a_report_of_any_take_by_a_button(window: MainWindow, demo_lab: Any) -> None:
    window.bench.open_take(demo_lab.jobs / "0412" / "comparison-ga-11" / "take-001")
    until(lambda: window.bench.finding is not None)
    QTest.mouseClick(window.bench.kinds["comparison"].result.draft, Qt.MouseButton.LeftButton)
    until(lambda: window.tabs["Folio"].isChecked(), 60)
    folder = demo_lab.folder / "reports"
    assert [p.name for p in folder.iterdir()] == ["0412-comparison-ga-11-take-001.pdf"]
    folio = window.place("Folio")
    assert folio.title.text() == "Report 0412-comparison-ga-11-take-001" and folio.document.pageCount() >= 1
    assert "not issued" in pdf_text(next(folder.iterdir()))[0]
    # From the Lightbox too, of the take that is chosen, which was cut; and none is written over.
    window.go("Lightbox")
    box = window.place("Lightbox")
    assert "take-002" in box.list.currentItem().text()
    for number in (1, 2):
        QTest.mouseClick(box.paper, Qt.MouseButton.LeftButton)
        until(lambda n=number: len(list(folder.iterdir())) == 1 + n, 60)
        window.go("Lightbox")
        until(lambda: box.aside.open == 0, 30)
        box.list.setCurrentRow(0)
    assert "not complete" in pdf_text(folder / "0412-comparison-ga-11-take-002.pdf")[0]
    assert (folder / "0412-comparison-ga-11-take-002-2.pdf").exists()
