"""The amplifier's sheet in real processes and on the real window: silent instruments, an invalid reading and its retake."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtTest import QTest
from tests.conftest import Running
from tests.test_desktop import until
from tests.test_shaker_window import begin, opened, settled

from lucid_anvil.core.figures import figure, limit_text
from lucid_anvil.desktop.shell.window import MainWindow
from lucid_anvil.domains.amplifier.window.sheet_stage import tops
from lucid_anvil.domains.amplifier.window.sheet_view import HEAD, ROOM, conditions, share_of
from lucid_anvil.engine.evaluating import series_of
from lucid_anvil.engine.running import run_plan
from lucid_anvil.folio.testreport import report_context
from lucid_anvil.lab.takes import RETAKE, Take
from lucid_anvil.lab.textfiles import dump_yaml, load_yaml
from lucid_anvil.lab.unit_limits import Unit, lines_from, put_limits

Conduct = Callable[..., Running]
SHORT = [
    {"method": "output-gain", "name": "gain", "label": "Gain", "loads": ["8 ohm"], "drive": {"power": "1 W"},
     "limits": {"gain": {"low": "25 dB", "high": "27 dB"}}},
    {"method": "output-power", "name": "power", "label": "Power", "loads": ["4 ohm"], "channels": ["A"],
     "drive": {"distortion": "1 %"}, "limits": {"power": {"low": "60 W"}}},
    {"method": "output-noise", "name": "noise", "label": "Noise", "loads": ["8 ohm"], "channels": ["B"], "read": 1.0},
    {"method": "output-response", "name": "response", "label": "Response", "loads": ["8 ohm"], "channels": ["A"],
     "drive": {"power": "1 W"}, "read": 2.0},
]  # fmt: skip


def short_sheet(lab: Any, faults: list[dict[str, Any]] | None = None, steps: Any = None) -> Path:
    """A few steps of the demo's sheet, on its rig with faults."""
    place = Path(lab.jobs / "0412" / "fog-amplifier" / "sheet" / "sheet.plan.yaml")
    plan = load_yaml(place)
    plan["steps"] = steps or SHORT
    place.write_text(dump_yaml(plan), encoding="utf-8")
    rig = lab.folder / "rigs" / "amplifier.rig.yaml"
    held = load_yaml(rig)
    held["standin"]["faults"] = faults or []
    rig.write_text(dump_yaml(held), encoding="utf-8")
    return place


@pytest.mark.parametrize(("kind", "name"), [("silent", "supply"), ("garbage", "load")])
def test_an_instrument_that_falls_silent_cuts_the_run_and_says_so(
    demo_lab: Any, conduct: Conduct, kind: str, name: str
) -> None:
    place = short_sheet(demo_lab, [{"at": "4 s", "kind": kind, "channel": name}])
    running = conduct(place)
    running.over()
    take = Take(running.take)
    assert take.status() == "cut"
    assert f"The {name}" in (take.reason() or "") and "at 127.0.0.1" in (take.reason() or "")
    drive = next(c for c in take.recording().channels if c.label == "drive").samples()
    assert np.all(drive[-2048:] == 0) and np.max(np.abs(drive)) > 0.05
    if kind != "silent":
        return
    # Mended, and continued: what was read before the cut stands on the whole sheet.
    position, before = take.position(), take.finding()
    assert position is not None and position["done"] == ["gain_A_8", "gain_B_8"] and before is not None
    short_sheet(demo_lab)
    done = run_plan(place, None, "fast", place.parent / "second", "T.T.", print, running.take)
    assert done.status == "done" and done.finding is not None
    marks = [m["key"] for m in Take(done.take).events() if m["kind"] == "reading"]
    assert marks == ["power_A_4", "noise_B_8", "response_A_8"]
    assert done.finding.reading("gain_A_8_gain").value == before.reading("gain_A_8_gain").value
    assert done.finding.reading("gain_A_8_difference").value is not None
    assert not any("Not taken" in note for note in done.finding.notes)
    assert [t.folder for t in series_of(Take(done.take))] == [take.folder, done.take]


def test_conditions_go_into_the_record(demo_lab: Any, conduct: Conduct) -> None:
    running = conduct(short_sheet(demo_lab, steps=SHORT[:1]))
    running.over()
    take = Take(running.take)
    seen = [e for e in take.events() if e["kind"] == "conditions"]
    assert take.status() == "done" and len(seen) > 10
    assert all(220 < e["supply"] < 235 and set(e["temperature"]) == {"A", "B"} for e in seen)
    assert np.all(np.diff([e["t"] for e in seen]) > 0)
    finding = take.finding()
    assert finding is not None and finding.reading("gain_A_8_gain").verdict == "inside"


def test_an_invalid_reading_before_and_after_its_retake(
    window: MainWindow, demo_lab: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    place = short_sheet(demo_lab)
    bench = opened(window, place)
    side = bench.kinds["amplifier"]
    assert bench.side is side and bench.stages.currentWidget() is side.stage
    assert side.stage.sheet.columns == ["A · 8 Ω", "B · 8 Ω", "A · 4 Ω"]
    assert "5 readings in 4 steps" in bench.told.text()
    assert {c.key for c in bench.walk.shown if c.kind == "sensed"} == {"loads", "fan", "mains", "meter"}
    until(lambda: all(c.done for c in bench.walk.shown if c.kind == "sensed"))
    begin(window)
    until(lambda: bench.state == "running", 60)
    until(lambda: bool(side.stage.sheet.live), 120)
    assert {"supply", "source", "A", "B", "load"} <= {t.key for t in bench.chain.tiles}
    until(lambda: bench.state == "done" and bench.finding is not None, 180)
    assert bench.finding.detail["sheet"]["retake"] == ["power_A_4"]
    assert side.result.retake.isVisible() and "(1)" in side.result.retake.text()
    assert len(side.stage.conditions.t) > 20 and min(side.stage.conditions.volts) < 227.7
    sheet = side.stage.sheet
    line = sheet.line_of("power_A_4")
    assert line is not None
    cell = sheet.cell_at(QPointF(sheet.width() - 20, line.top + 5))
    assert cell is not None and not cell["valid"] and "supply" in conditions(cell)
    QTest.mouseClick(sheet, Qt.MouseButton.LeftButton, pos=QPoint(sheet.width() - 20, int(line.top) + 5))
    assert side.stage.tabs.now == "power" and sheet.picked == "power_A_4"
    for key in ("response", "noise", "spectrum", "now"):
        side.stage.tabs.choose(key)
        assert side.stage.charts[key].isVisible()
    side.stage.tabs.choose("noise")
    assert any(k.startswith("note") for k in side.stage.charts["noise"].series)
    context = report_context(Take(bench.take), bench.finding, demo_lab)
    assert context["sheet"]["columns"] == sheet.columns and any("supply" in r for r in context["sheet"]["reasons"])
    window.grab()
    # A corridor from this unit's response.
    side.stage.tabs.choose("response")
    side.make_limits()
    until(lambda: side.view is not None, 10)
    page = side.view.curves
    assert page.key == "gain_response_A_8" and page.units[0].take == bench.take and page.table.rowCount() == 0
    page.below.setText("0.5 dB")
    page.above.setText("0.5 dB")
    page.make.click()
    assert "limits-band" in page.chart.series and page.table.rowCount() > 3
    side.view.yes.click()
    settled(bench)
    mask = next(s for s in load_yaml(place)["steps"] if s["name"] == "response")["mask"]
    assert len(mask["x"]) > 3 and np.all(np.array(mask["high"]) - np.array(mask["low"]) == pytest.approx(1.0, abs=1e-4))
    first = bench.take
    side.retake()
    until(lambda: bench.plan_file is not None and bench.plan_file.name == RETAKE and bool(bench.walk.shown), 60)
    begin(window)
    until(lambda: bench.state == "done" and bench.take != first and bench.finding is not None, 180)
    assert bench.finding.detail["sheet"]["retake"] == []
    assert bench.finding.reading("power_A_4_power").valid
    assert bench.finding.reading("gain_A_8_gain").value == Take(first).finding().reading("gain_A_8_gain").value
    assert not side.result.retake.isVisible()
    # A reading that counts can be taken again too, alone.
    assert not side.result.once.isVisible()
    side.stage.choose("gain_A_8")
    assert side.result.once.isVisible() and side.result.once.text().startswith("Again: ")
    side.stage.picked = "gain_A_8"
    side.result.once.click()
    until(lambda: bench.state == "walk-round" and bench.prepared.settings.only == ["gain_A_8"], 60)
    bench.repaint_charts()


def test_figures_and_limits_in_few_signs() -> None:
    assert figure(0.000123456, 1e-7, "V") == "123.46 µV" and figure(46.961, 0.1, "W") == "46.96 W"
    assert figure(36012.0, 100.0, "Hz") == "36.01 kHz" and figure(0.04, 4e-5, "ohm") == "40.00 mΩ"
    assert limit_text(-0.05, 0.05, "V") == "± 50 mV" and limit_text(40, None, "W") == "≥ 40 W"
    assert limit_text(None, 0.1, "%") == "≤ 0.1 %" and limit_text(25.5, 26.5, "dB") == "25.5 dB to 26.5 dB"
    assert limit_text(None, None, "V") == "" and HEAD < ROOM
    assert share_of(0.5, None, 1.0) == 0.5 and share_of(50, 40, None) == 0.8 and share_of(26, 25, 27) == 0.0


def test_the_strongest_lines_are_named_by_their_order() -> None:
    f = np.arange(1.0, 5000.0)
    y = np.full(f.size, 1e-6)
    y[[999, 1999, 2999, 120]] = 1.0, 1e-3, 1e-4, 5e-4
    assert [t for *_, t in tops(f, y)] == ["1000 Hz", "2", "121", "3"]


def test_points_that_do_not_count_are_crossed(qtbot: Any) -> None:
    from lucid_anvil.contracts.finding import Curve, Finding
    from lucid_anvil.domains.amplifier.window.sheet_stage import SheetStage

    x, y = (0.1, 1.0, 10.0, 40.0), (0.1, 0.05, 0.02, 1.0)
    stage = SheetStage()
    qtbot.addWidget(stage)
    for valid, crossed in (((True, True, False, False), 2), ((True,) * 4, 0), (None, 0)):
        curve = Curve("distortion_power_row_A_8", "Row, A · 8 Ω", x, y, "W", "%", valid=valid)
        stage.show_finding(
            Finding("amplifier-sheet", (), (curve,), detail={"sheet": {"columns": ["A · 8 Ω"], "rows": []}})
        )
        spoiled = stage.charts["power"].series.get("spoiled_distortion_power_row_A_8")
        assert (0 if spoiled is None else len(spoiled.data)) == crossed
        assert ("not count" in stage.told.text()) == bool(crossed)
        assert stage.curve_in_hand == curve
        stage.tabs.choose("response")
        assert stage.curve_in_hand is None
        stage.tabs.choose("power")


def test_limits_of_several_units(demo_lab: Any) -> None:
    from lucid_anvil.contracts.finding import Curve
    from lucid_anvil.core.errors import BadInput

    place = short_sheet(demo_lab)
    x = tuple(np.geomspace(20, 20e3, 50))
    curves = [Curve("gain_response_A_8", "", x, (d,) * 50, "Hz", "dB") for d in (-0.1, 0.0, 0.1)]
    lines = lines_from(curves, "3 s; 0.2 dB", "1 dB")
    assert lines.said == "mean of 3 units −3 s; 0.2 dB +1 dB" and lines.x.size == 2 and lines.off < 1e-9
    assert lines.low == pytest.approx([-0.3, -0.3]) and lines.high == pytest.approx([1.0, 1.0])
    assert lines_from(curves[2:], "", "50 %").high == pytest.approx([0.15, 0.15])
    assert lines_from(curves[2:], "", "50 %").low is None
    bent = Curve("gain_response_A_8", "", x, tuple(np.log10(x) ** 2), "Hz", "dB")
    few, many = lines_from([bent], "1 dB", "1 dB", 3), lines_from([bent], "1 dB", "1 dB")
    assert few.x.size == 3 and few.off > 0.1 >= many.off
    assert "mean of 3" in put_limits(place, "gain_response_A_8", lines.plain())
    mask = next(s for s in load_yaml(place)["steps"] if s["name"] == "response")["mask"]
    assert mask["high"] == [1.0, 1.0] and mask["from"] == lines.said
    assert "none" in put_limits(place, "gain_response_A_8", {})
    assert "mask" not in next(s for s in load_yaml(place)["steps"] if s["name"] == "response")
    with pytest.raises(BadInput, match="no step whose curve"):
        put_limits(place, "gain_other_A_8", lines.plain())
    short = Curve("gain_response_A_8", "", x[:1], (0.0,), "Hz", "dB")
    for bad, below, above, why in (
        ([short], "1 dB", "", "two points at least"), ([], "1 dB", "", "Tick a unit"), (curves[:1], "3 s", "", "two units"),
        (curves, "", "", "Give a width"), (curves, "1 V", "", "dB"), (curves, "-1 dB", "", "above zero"),
    ):  # fmt: skip
        with pytest.raises(BadInput, match=why):
            lines_from(bad, below, above)


def test_the_corridor_is_seen_before_it_is_put(qtbot: Any) -> None:
    from PyQt6.QtCore import Qt as Q

    from lucid_anvil.contracts import registry
    from lucid_anvil.contracts.finding import Curve, Finding
    from lucid_anvil.desktop.parts.curve_limits import CurveLimitsPage

    key, x = "distortion_power_clipping_A_8", tuple(np.geomspace(0.1, 40, 30))
    curves = [Curve(key, "Noise to clipping, A", x, (d,) * 30, "W", "%", (0.01,) * 30, 2.0) for d in (0.1, 0.2)]
    units = [Unit(f"unit {i}", Path("take-001"), Finding("amplifier-sheet", (), (c,))) for i, c in enumerate(curves)]
    page = CurveLimitsPage(registry.get("amplifier-sheet"), units[0].finding, {}, lambda _key: units, key)
    qtbot.addWidget(page)
    said: list[str] = []
    page.said.connect(said.append)
    assert page.list.count() == 2 and page.keys == [key] and not page.made
    page.below.setText("")
    page.above.setText("50 %")
    page.make.click()
    assert page.made[key]["high"] == [0.15, 0.15] and "low" not in page.made[key]
    assert "inside" in page.told.text() and "one unit +50 %" in page.told.text()
    page.list.item(1).setCheckState(Q.CheckState.Checked)
    page.above.setText("0.01")
    page.make.click()
    assert page.made[key]["high"] == [0.16, 0.16] and "mean of 2 units" in page.told.text()
    for i in range(2):
        page.list.item(i).setCheckState(Q.CheckState.Unchecked)
    page.make.click()
    assert "Tick" in said[-1] and page.made[key]["high"] == [0.16, 0.16]


def test_an_uncalibrated_card_is_told_and_the_bench_leads_to_its_calibration(window: MainWindow, demo_lab: Any) -> None:
    place = short_sheet(demo_lab, steps=SHORT[:1])
    rig = demo_lab.folder / "rigs" / "amplifier.rig.yaml"
    held = load_yaml(rig)
    held["front_end"] = {"driver": "soundcard", "rate": "48 kHz", "block": 2048}
    rig.write_text(dump_yaml(held), encoding="utf-8")
    bench, said = window.bench, []
    bench.said.connect(said.append)
    bench.pace = "real"
    window.go("Bench")
    bench.open_plan(place)
    until(lambda: any("volts are not known" in text for text in said), 60)
    stage = bench.kinds["amplifier"].stage
    assert stage.card.isVisible()
    stage.card.click()
    view = bench.kinds["amplifier"].card
    assert view is not None and view.isVisible() and view.picture.names == ["A", "B"]
    said.clear()
    view.reject()
    # The walk-round begins anew, and says again what is missing.
    until(lambda: any("volts are not known" in text for text in said), 60)
    assert stage.card.isVisible()
