"""Shaker takes that are already there: reports, rehearsals, a moved lab, guards of the plan, the pictures of a take."""

from __future__ import annotations

import datetime
import json
import shutil
from html import unescape
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PyQt6.QtWidgets import QApplication
from tests.test_desktop import leave, until
from tests.test_shaker_engine import quick_plan

from lucid_anvil.contracts.finding import Curve, Finding, Reading
from lucid_anvil.contracts.method import Axis
from lucid_anvil.core.errors import BadInput
from lucid_anvil.desktop.bench.run_result import RunResult
from lucid_anvil.desktop.bench.stretch_view import StretchView
from lucid_anvil.desktop.shell.window import MainWindow
from lucid_anvil.domains.shaker.window.lanes import Lane
from lucid_anvil.domains.shaker.window.probe_view import HeadroomBars, ProbeView
from lucid_anvil.engine.inprocess import play_through
from lucid_anvil.engine.preparing import files_kept, plan_as_kept, prepare, rig_as_kept
from lucid_anvil.engine.rehearsal import rehearse
from lucid_anvil.folio.certificate import html_of, report
from lucid_anvil.folio.plots import view_svg
from lucid_anvil.folio.testreport import reading_row, report_context
from lucid_anvil.lab.place import open_lab
from lucid_anvil.lab.plans import load_plan, put_plan
from lucid_anvil.lab.takes import Take, begin_take
from lucid_anvil.lab.textfiles import dump_yaml, load_yaml


def kept_take(lab: Any, name: str, number: int = 1, status: str = "done", reason: str | None = None) -> Take:
    """A take of one of the demo's shaker plans as a play-through gave it, its raw streams left out."""
    prepared = prepare(
        quick_plan(lab, name, {"control": {"probe": {"period": "1 s"}, "passes": 2}} if name == "record" else None)
    )
    played = play_through(prepared)
    assert played.trip is None, played.trip
    folder = prepared.plan_file.parent / f"take-{number:03d}"
    take = begin_take(folder, dump_yaml(plan_as_kept(prepared)), dump_yaml(rig_as_kept(prepared)))
    for file, place in files_kept(prepared).items():
        shutil.copyfile(place, folder / file)
    signed = {"key": "bolts", "text": "Fixture bolts torqued", "kind": "signed", "done": True, "why": "", "by": "K.B."}
    events = [
        {
            "kind": "begin",
            "wall": datetime.datetime.now().timestamp(),
            "temperature": 21.4,
            "humidity": 46.0,
            "checks": [signed],
        },
        {"kind": "note", "t": 3.2, "text": "door opened"},
        *[dict(m) for m in played.marks],
        {"kind": "end", "t": 12.0, "status": status, "reason": reason},
    ]
    (folder / "events.jsonl").write_text("".join(json.dumps(e) + "\n" for e in events))
    take.keep(prepared.method.evaluate(played.channels, prepared.settings, played.marks))
    return take


@pytest.mark.parametrize("name", ["sine", "random", "record"])
def test_a_report_says_what_was_done_and_what_came_of_it(demo_lab: Any, tmp_path: Path, name: str) -> None:
    take = kept_take(demo_lab, name)
    finding = take.finding()
    assert finding is not None
    values = report_context(take, finding, demo_lab)
    html = html_of(values, demo_lab, "report.html")
    title = take.plan().title
    for word in (title, "Battery tray BT-3", "Gullstone Test House", "Fixture bolts torqued (K.B.)", "At 3.2 s: door opened",
                 "GA-07", "46 % RH"):  # fmt: skip
        assert word in html, word
    assert values["verdict"] == finding.verdict and len(values["pictures"]) >= 1
    plain = unescape(html)
    assert all(r.label in plain for r in finding.readings)
    report(take, tmp_path / "r.pdf")
    assert (tmp_path / "r.pdf").read_bytes().startswith(b"%PDF")
    with pytest.raises(BadInput, match="exists already"):
        report(take, tmp_path / "r.pdf")


def test_a_report_of_a_cut_take_says_so(demo_lab: Any) -> None:
    take = kept_take(demo_lab, "sine", status="cut", reason="Stroke on table at 3.00 s (cut)")
    finding = take.finding()
    assert finding is not None
    values = report_context(take, finding, None)
    assert values["verdict"] == "open" and values["missing"] and values["cut"] == "Stroke on table at 3.00 s (cut)"
    said = html_of(values, None, "report.html")
    assert "Not complete." in said and "Stroke on table at 3.00 s" in said


def test_rows_and_pictures_of_a_report() -> None:
    row = reading_row(Reading("a", "A", -1.23456, "dB", 0.021, 2.0, None, -2.0, 2.0, "inside"))
    assert (row["value"], row["uncertainty"], row["limits"]) == ("−1.235", "0.021", "± 2 dB")
    row = reading_row(Reading("b", "B", None, "V", valid=False, reason="no signal", verdict="none"))
    assert (row["value"], row["verdict"], row["reason"]) == ("–", "open", "no signal")
    curve = Curve(
        "c", "C", (10.0, 100.0, 1000.0), (1.0, None, 3.0), "Hz", "V", low=(0.5, 0.5, None), high=(4.0, 4.0, 4.0)
    )
    other = Curve("d", "D", (10.0, 1000.0), (2.0, 2.0), "Hz", "V")
    finding = Finding("sine-sweep", (), (curve, other))
    made = view_svg(finding, Axis("v", "View", ("c", "d"), "Hz", "V", x_log=True, y_log=True))
    assert made is not None and made.startswith("<svg")
    assert view_svg(finding, Axis("v", "View", ("elsewhere",), "Hz", "V")) is None


def test_a_copied_lab_stands_on_its_own_rig(demo_lab: Any, tmp_path: Path) -> None:
    place = demo_lab.jobs / "0412" / "battery-tray" / "sine" / "sine.plan.yaml"
    assert not Path(load_yaml(place)["rig"]).is_absolute()
    copy = open_lab(Path(shutil.copytree(demo_lab.folder, tmp_path / "copy")))
    twin = copy.jobs / "0412" / "battery-tray" / "sine" / "sine.plan.yaml"
    assert prepare(twin).rig_file == (copy.folder / "rigs" / "shaker.rig.yaml").resolve()
    plan = load_yaml(twin) | {"rig": str(demo_lab.folder / "rigs" / "shaker.rig.yaml")}
    put_plan(twin, plan)
    assert load_yaml(twin)["rig"].startswith("..")
    assert prepare(twin).rig_file == (demo_lab.folder / "rigs" / "shaker.rig.yaml").resolve()


def test_a_rehearsal_shows_what_is_used_and_what_would_trip(demo_lab: Any) -> None:
    fine = rehearse(prepare(quick_plan(demo_lab, "record", {"control": {"probe": {"period": "1 s"}, "passes": 2}})))
    assert fine.verdict == "inside", [r for r in fine.readings if r.verdict == "outside"]
    assert all(r.value is not None and r.value < 100 for r in fine.readings if r.key.startswith("guard_"))
    place = quick_plan(demo_lab, "sine")
    plan = load_yaml(place)
    plan["guards"] = [{"watch": "acceleration", "channel": "tray", "limit": "6 m/s^2", "label": "Tray too lively"}]
    place.write_text(dump_yaml(plan))
    assert load_plan(place).guards[0].limit == "6 m/s^2"
    tripped = rehearse(prepare(place))
    assert tripped.verdict == "outside" and "Tray too lively" in tripped.notes[0]
    plan["guards"][0]["channel"] = "nowhere"
    place.write_text(dump_yaml(plan))
    with pytest.raises(BadInput, match="no channel 'nowhere'"):
        prepare(place)


def test_a_response_limit_makes_a_guard(demo_lab: Any) -> None:
    place = quick_plan(demo_lab, "sine", {"control": {"probe": {"period": "1 s"}, "limits": {"response": "40 m/s^2"}}})
    held = prepare(place).control()
    guard = next(g for g in held["guards"] if g.get("channel") == "response")
    assert guard["limit"] == pytest.approx(50.0) and guard["watch"] == "acceleration"
    assert held["roles"] == ["control"]


# --- on the window ------------------------------------------------------------------------------------------------


@pytest.fixture
def window(qapp: Any, demo_lab: Any) -> Any:
    kept_take(demo_lab, "random")
    made = MainWindow(demo_lab)
    made.show()
    made.go("Bench")
    QApplication.processEvents()
    yield made
    leave(made)


def test_a_kept_random_take_is_shown_again(window: MainWindow, demo_lab: Any) -> None:
    bench = window.bench
    folder = demo_lab.jobs / "0412" / "battery-tray" / "random"
    bench.open_take(folder / "take-001")
    until(lambda: bench.finding is not None)
    assert bench.kinds["shaker"].here and bench.panels.currentWidget() is bench.kinds["shaker"].result
    assert "% of lines within tolerance" in bench.kinds["shaker"].result.big.text()
    stage = bench.kinds["shaker"].stage
    assert "control" in stage.profile.series and not stage.profile.editable
    for key in ("drive", "responses"):
        stage.choose(key)
        QApplication.processEvents()
    assert not bench.kinds["shaker"].orders.hold.isVisible()
    # Orders outside a run do nothing, and a tile's menu does not open on a finished take.
    bench.kinds["shaker"].hold()
    bench.kinds["shaker"].turn(-3.0)
    bench.kinds["shaker"].skip()
    bench.kinds["shaker"].tile_menu("control")
    assert bench.kinds["shaker"].orders.hold.text() == "Hold  H"


def test_a_walk_round_left_before_its_door_was_open_is_ended(window: MainWindow, demo_lab: Any) -> None:
    bench, folder = window.bench, demo_lab.jobs / "0412" / "battery-tray"
    bench.open_plan(folder / "sine" / "sine.plan.yaml")
    until(lambda: bench.state == "starting" and window.link.process is not None)
    first = window.link.process
    assert first is not None and window.link.search.isActive()
    bench.open_plan(folder / "random" / "random.plan.yaml")
    until(lambda: window.link.process is not first)
    until(lambda: first.poll() is not None)
    until(lambda: bench.state == "walk-round" and bool(bench.walk.shown))
    window.link.close_run()
    until(lambda: window.link.process.poll() is not None)  # type: ignore[union-attr]


# --- widgets ---------------------------------------------------------------------------------------------------------


def test_headroom_bars_find_room(qtbot: Any) -> None:
    bars = HeadroomBars()
    qtbot.addWidget(bars)
    rows = [[f"Limit {i}", 0.1 * i, i, 10.0, "m" if i == 3 else "N"] for i in range(12)]
    bars.show_rows(rows)
    assert [r[0] for r in bars.rows[:2]] == ["Limit 11", "Limit 10"]
    assert bars.minimumHeight() >= 12 * 30
    bars.resize(240, bars.minimumHeight())
    image = bars.grab().toImage()
    columns = {image.pixelColor(5, y).name() for y in range(image.height() - 40, image.height())}
    assert len(columns) > 1  # the last bar is on the picture


def test_a_probe_view_says_why_it_did_not_go_on(qtbot: Any) -> None:
    view = ProbeView()
    qtbot.addWidget(view)
    assert "first thing" in view.said.text()
    f = list(np.linspace(5, 400, 80))
    probe = {
        "frequency": f, "response": [[1.0] * 80, [2.0] * 80], "expected": [1.1] * 80, "coherence": [1.0] * 80,
        "roles": ["control", "response"], "used": [["Drive", 1.4, 14.0, 10.0, "V"]], "modes": [[118.0, 2.0]],
        "delay": 4.8e-4, "noise": [0.04], "notes": [], "why": "it does not fit",
    }  # fmt: skip
    view.show_probe(probe)
    assert view.said.text().startswith("Not gone on: it does not fit") and view.said.objectName() == "cut"
    assert "118 Hz (2.0 Hz wide)" in view.said.text() and {"control", "expected", "response-response"} <= set(
        view.chart.series
    )
    view.show_probe({})
    assert view.shown is probe


def test_a_result_without_a_finding(qtbot: Any) -> None:
    result = RunResult()
    qtbot.addWidget(result)
    result.show_finding(None, "cut at 2 s", True)
    assert result.cut.text() == "cut at 2 s" and "Nothing was driven" in result.big.text()
    finding = Finding("sine-sweep", (Reading("in_tolerance", "Lines", 98.25, "%", None, None, None, 98.0, None, "inside"),
                                     Reading("error_max", "Largest", -0.31, "dB", 0.07, 2.0)), notes=("one", "two"))  # fmt: skip
    result.show_finding(finding, None, False)
    assert result.big.text().startswith("98.2 %") and result.word.text() == "inside"
    assert not result.more.isVisibleTo(result) and result.notes.text() == "one\ntwo"


def test_stretches_are_drawn_and_dragged(qtbot: Any, demo_lab: Any) -> None:
    view = StretchView()
    qtbot.addWidget(view)
    view.resize(900, 74)
    items = prepare(demo_lab.jobs / "0412" / "battery-tray" / "random" / "random.plan.yaml").course()
    view.show_course(items, True)
    assert len(view.items) == len(items) and view.total == pytest.approx(sum(i.duration for i in items))
    view.show_progress(1, 0.5)
    running = view.grab().toImage()
    view.show_progress(None, 0.0, all_done=True)
    assert view.grab().toImage() != running


def test_a_lane_needs_no_more_than_what_it_is_given() -> None:
    lane = Lane("Control", "m/s²", np.zeros(10))
    assert lane.name == "Control" and lane.role == "teal"
