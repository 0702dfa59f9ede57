"""Limits of curves and limits that count from another value: what is said inside, and what is not."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PyQt6.QtWidgets import QApplication
from tests.test_desktop import until

from lucid_anvil.contracts import registry
from lucid_anvil.contracts.curvelimits import CurveLimits, held_to, limited
from lucid_anvil.contracts.finding import Curve, Finding, Reading
from lucid_anvil.contracts.limits import Limits, related
from lucid_anvil.contracts.method import held_to_all
from lucid_anvil.contracts.settings import check
from lucid_anvil.core.errors import BadInput
from lucid_anvil.core.quality.masks import Mask
from lucid_anvil.desktop.lightbox.again_view import AgainView
from lucid_anvil.desktop.parts.curve_limits import CurveLimitsPage, limitable_curves
from lucid_anvil.desktop.parts.limits_sheet import LimitsSheet, limits_typed
from lucid_anvil.lab.textfiles import load_yaml
from lucid_anvil.lab.unit_limits import Unit

X = np.unique(np.append(np.geomspace(20, 20e3, 61), 1e3))


def response(y: Any, doubt: float | None = 0.1, **more: Any) -> Curve:
    y = np.broadcast_to(np.asarray(y, float), X.shape)
    u = None if doubt is None else tuple([doubt] * X.size)
    values = tuple(None if np.isnan(v) else float(v) for v in y)
    return Curve("response", "Response", tuple(X), values, "Hz", "dB", u, **more)


def wanted(**given: Any) -> CurveLimits:
    return check(CurveLimits, {"x": ["20 Hz", "1 kHz", "20 kHz"], "low": [-3, -1, -3], "high": [3, 1, 3], **given}, "t")


@pytest.mark.parametrize(
    ("curve", "given", "said", "margin"),
    [
        (response(0.0), {}, "inside", 1.0),
        (response(0.95), {}, "open", 0.05),  # the doubt reaches over the line
        (response(1.5), {}, "outside", -0.5),
        (response(0.5, None), {}, "open", 0.5),  # nobody knows how sure it is
        (response(0.5, None), {"rule": "simple"}, "inside", 0.5),
        (response(1.5, None), {"rule": "simple"}, "outside", -0.5),
        (response(1.5), {"floats": True, "most": 9}, "inside", 1.0),
        (response(1.5), {"floats": True, "most": "0.2 dB"}, "outside", -0.3),
        (response(-1.5), {"floats": True, "most": "0.2 dB"}, "outside", -0.3),
        (response(-1.5), {"floats": True, "most": 9}, "inside", 1.0),
        (response(0.0), {"low": None}, "inside", 1.0),
        (response(-40.0), {"low": None}, "inside", 41.0),
        (response(np.where(X > 1001, 9.0, 0.0)), {"high": [3, 1, None]}, "inside", 1.0),  # opened above 1 kHz
        (response(np.where(X > 999, 9.0, 0.0)), {"high": [3, 1, None]}, "outside", -8.0),  # at 1 kHz it still holds
        (response(0.0), {"x": ["20 Hz", "1 kHz", "25 kHz"]}, "open", 1.0),  # limited where nothing was measured
        (response(0.0), {"x": ["18 Hz", "1 kHz", "20 kHz"]}, "open", 1.0),  # nearer than a step, and yet not there
        (response(0.0), {"x": ["19.95 Hz", "1 kHz", "20.05 kHz"]}, "inside", 1.0),  # rounded
        (response(5.0), {"x": ["20 Hz", "1 kHz", "25 kHz"]}, "outside", -4.0),
        (response(np.where(X > 15e3, np.nan, 0.0)), {}, "open", 1.0),
        (response(0.0, valid=tuple(X < 15e3)), {}, "open", 1.0),
        (response(np.nan), {}, "open", None),
    ],
)
def test_what_a_curve_says_against_its_limits(curve: Curve, given: dict[str, Any], said: str, margin: float) -> None:
    made = limited(curve, wanted(**given), "guarded")
    assert made.verdict == said == made.margin.verdict
    assert made.margin.value == (margin if margin is None else pytest.approx(margin, abs=0.02))
    assert made.margin.valid == (margin is not None)


def test_why_it_is_open_is_said() -> None:
    short = limited(response(0.0), wanted(x=["5 Hz", "1 kHz", "20 kHz"]), "guarded")
    assert "below 20 Hz" in " ".join(short.notes)
    unsure = limited(response(0.0, None), wanted(), "guarded")
    assert "no uncertainty" in " ".join(unsure.notes)
    waived = limited(response(0.0, None), wanted(rule="simple"), "guarded")
    assert waived.verdict == "inside" and "values alone" in " ".join(waived.notes)
    assert not limited(response(0.0, None), wanted(), "simple").notes
    beyond = limited(response(1.5), wanted(), "guarded")
    assert "0.5 dB at 1000 Hz" in " ".join(beyond.notes)


def test_a_finding_is_held_to_its_limits_and_keeps_its_own_corridor() -> None:
    own = response(0.0, low=tuple([-2.0] * X.size), high=tuple([0.5] * X.size))
    finding = Finding("x", (Reading("thd", "THD", 1.0, "%", 0.1, verdict="none"),), (own,), curve_verdicts=("inside",))
    made = held_to(finding, {"response": wanted()}, "guarded")
    assert made.verdict == "inside" and made.reading("margin_response").value == pytest.approx(1.0)
    c = made.curve("response")
    assert c.low is not None and min(v for v in c.low if v is not None) == -2.0
    assert c.high is not None and max(v for v in c.high if v is not None) == 0.5
    lost = held_to(finding, {"respnse": wanted()}, "guarded")
    assert lost.verdict == "open" and "did you mean 'response'" in (lost.readings[-1].reason or "")


@pytest.mark.parametrize(
    ("given", "why"),
    [
        ({"x": ["20 Hz", "20 Hz", "1 kHz"]}, "must rise"), ({"low": [-3, 2, -3]}, "above high"),
        ({"x": [20, 20, 1000]}, "must rise"), ({"low": ["-3 dB", "2 dB", -3]}, "above high"),
        ({"low": [-3, -1]}, "one a place"), ({"low": None, "high": None}, "low or a high"),
        ({"x": ["20 s", "1 kHz", "20 kHz"]}, "kind"), ({"high": ["3 V", 1, 3]}, "can't be turned"),
        ({"low": None, "floats": True, "most": 1}, "float"), ({"floats": True}, "lost its level"), ({"lows": [1, 2, 3]}, "not known"),
    ],
)  # fmt: skip
def test_limits_that_make_no_sense_are_refused(given: dict[str, Any], why: str) -> None:
    with pytest.raises(BadInput, match=why):
        limited(response(0.0), wanted(**given), "guarded")


def test_a_line_holds_to_its_last_point_and_not_beyond_where_it_opens() -> None:
    mask = Mask(np.array([10.0, 100.0, 1000.0]), np.array([0.0, 0.0, np.nan]), np.array([1.0, 1.0, 1.0]))
    low, high = mask.at(np.array([5.0, 10.0, 50.0, 100.0, 101.0, 1000.0]))
    assert np.isnan(low).tolist() == [True, False, False, False, True, True]
    assert np.isnan(high).tolist() == [True, False, False, False, False, False]


@pytest.mark.parametrize(
    ("sides", "low", "high"),
    [
        ({"low": "-5 %", "high": "2 %", "of": "10 V"}, 9.5, 10.2),
        ({"low": "-6 dB", "of": "10 V"}, 5.012, None),
        ({"high": "1 V", "of": "-10 V"}, None, -9.0),
        ({"low": "-10 %", "of": "-10 V"}, -11.0, None),
        ({"low": "-100 mV", "high": 0.1, "of": 2}, 1.9, 2.1),
        ({"low": "9 V", "from": "a drawing"}, 9.0, None),
    ],
)
def test_limits_that_count_from_a_value(sides: dict[str, Any], low: float | None, high: float | None) -> None:
    made = Limits({"level": sides}, {"level": "V"}, "guarded").sides("level")
    assert made == tuple(None if v is None else pytest.approx(v, rel=1e-3) for v in (low, high))


def test_levels_of_powers_and_of_levels() -> None:
    assert Limits({"p": {"low": "-3 dB", "of": "100 W"}}, {"p": "W"}, "simple").sides("p")[0] == pytest.approx(
        50.1, rel=1e-3)  # fmt: skip
    assert Limits({"l": {"low": "-3 dB", "of": "94 dB"}}, {"l": "dB"}, "simple").sides("l")[0] == 91.0


@pytest.mark.parametrize(
    ("sides", "why"),
    [({"low": "1 %", "high": "-1 %", "of": "2 V"}, "exchange"), ({"low": "-3 dB", "of": 0}, "dB of 0"),
     ({"lo": 1}, "not known"), ({"low": "1 m", "of": "2 V"}, "kind"), ({"low": 1, "of": "2 m"}, "kind")],
)  # fmt: skip
def test_limits_that_count_from_nothing_are_refused(sides: dict[str, Any], why: str) -> None:
    with pytest.raises(BadInput, match=why):
        Limits({"level": sides}, {"level": "V"}, "guarded").sides("level")


def finding_of(left: float, right: float | None, doubt: float | None = 0.1) -> Finding:
    return Finding("x", (
        Reading("left", "Left", left, "dB", doubt, verdict="none"),
        Reading("right", "Right", right, "dB", doubt, valid=right is not None, verdict="none"),
        Reading("thd", "THD", 1.0, "%", 0.1, verdict="none"),
    ))  # fmt: skip


@pytest.mark.parametrize(
    ("left", "right", "doubt", "said"),
    [(94.0, 93.5, 0.1, "inside"), (94.0, 93.1, 0.1, "open"), (94.0, 92.0, 0.1, "outside"), (94.0, 93.5, None, "open"),
     (94.0, None, 0.1, "open")],
)  # fmt: skip
def test_a_reading_against_another_one(left: float, right: float | None, doubt: float | None, said: str) -> None:
    given = {"left": {"low": "-1 dB", "high": "1 dB", "of": "right"}}
    made = related(finding_of(left, right, doubt), given, "guarded")
    assert made.reading("left").verdict == said
    if right is not None:
        assert made.reading("left").low == pytest.approx(right - 1)


def test_an_interval_against_a_reading_that_nobody_knows_the_doubt_of_is_open() -> None:
    given = {"left": {"low": "-1 dB", "high": "1 dB", "of": "right"}}
    lopsided = Reading("left", "Left", 94.0, "dB", interval=(93.9, 94.2), verdict="none")
    for doubt, said in ((0.1, "inside"), (None, "open")):
        other = Reading("right", "Right", 94.0, "dB", doubt, verdict="none")
        assert related(Finding("x", (lopsided, other)), given, "guarded").reading("left").verdict == said


def test_limits_from_another_reading_are_open_until_that_is_looked_at() -> None:
    given = {"left": {"low": "-1 dB", "of": "right"}}
    first = Limits(given, {"left": "dB", "right": "dB"}, "simple").judge(Reading("left", "Left", 94.0, "dB"))
    assert first.verdict == "open" and first.low is None


def test_a_reading_against_what_is_not_there_or_not_alike() -> None:
    for of, why in (("rigth", "did you mean 'right'"), ("left", "no other reading"), ("thd", "same kind")):
        with pytest.raises(BadInput, match=why):
            related(finding_of(1, 2), {"left": {"low": -1, "of": of}}, "guarded")


# --- in the window ---------------------------------------------------------------------------------------------------


def test_limits_that_count_from_something_as_they_are_typed() -> None:
    def typed(low: str, high: str, of: str, source: str = "") -> Any:
        return limits_typed([("left", "dB", low, high, of, source), ("right", "dB", "", "", "", "")])

    assert typed("−1", "1 dB", "right") == {"left": {"low": "-1 dB", "high": "1 dB", "of": "right"}}
    assert typed("", "5 %", "94", "unit 1, take-003") == {
        "left": {"high": "5 %", "of": "94 dB", "from": "unit 1, take-003"}
    }
    for low, of, why in (("", "right", "no low and no high"), ("1", "wrong", "no reading"), ("1 V", "94", "dB")):
        with pytest.raises(BadInput, match=why):
            typed(low, "", of)


def test_lines_are_dragged_typed_pasted_and_thinned(qtbot: Any) -> None:
    method = registry.get("driver-check")
    curve = Curve("response", "Response", tuple(X), tuple(80 + np.log10(X)), "Hz", "dB", tuple([0.2] * X.size), 2.0)
    seen = Finding("driver-check", (), (curve,))
    page = CurveLimitsPage(method, seen, {}, lambda _key: [])
    qtbot.addWidget(page)
    said: list[str] = []
    page.said.connect(said.append)
    assert page.keys == ["response"] == limitable_curves(method, seen, {})
    assert limitable_curves(method, None, {"own": {}})[-1] == "own"
    page.add_point()
    assert page.made["response"]["x"] == [20.0, 20000.0] and "inside" in page.told.text()
    page.add_point()
    x, lines = page.numbers()
    assert x[1] == pytest.approx(np.sqrt(20 * 20e3), rel=1e-4) and page.table.rowCount() == 3
    # A point of the upper line is pulled below the curve, and beside its neighbour: the place stays, the value moves.
    point = next(p for p in page.points if p.side == "high" and p.at == 1)
    point.setPos(np.log10(50e3), 82.0)
    point.sigPositionChangeFinished.emit(point)
    assert page.numbers()[0][1] == x[1] and page.numbers()[1]["high"][1] == pytest.approx(82.0)
    assert "outside" in page.told.text()
    page.table.item(1, 2).setText("90 dB")
    page.table.item(1, 0).setText("1,5 kHz")
    assert page.made["response"]["x"][1] == 1500.0 and page.made["response"]["high"][1] == 90.0
    page.table.item(1, 1).setText("95")
    assert "above high" in said[-1] and page.table.item(1, 1).text() != "95"
    page.table.item(1, 1).setText("")
    assert page.made["response"]["low"][1] is None
    page.table.setCurrentCell(1, 0)
    page.remove_point()
    page.remove_point()
    assert len(page.made["response"]["x"]) == 2 and "No limits" in said[-1]
    page.paste("x [kHz]\tlow\thigh\n0.02\t70\t\n1\t75\t95\n20\t70\t95")
    assert page.numbers()[0].tolist() == [20.0, 1000.0, 20000.0] and page.made["response"]["high"][0] is None
    page.paste("1\t2")
    assert "heading" in said[-1] and len(page.made["response"]["x"]) == 3
    page.floats.click()
    assert "lost its level" in said[-1] and "floats" not in page.made["response"]
    page.floats.setChecked(True)
    page.reach.setText("2 dB")
    page.reach.editingFinished.emit()
    page.simple.click()
    assert {k: page.made["response"][k] for k in ("floats", "most", "rule")} == {
        "floats": True, "most": "2 dB", "rule": "simple"}  # fmt: skip
    page.none.click()
    assert not page.made and "Not limited" in page.told.text()


def test_limits_of_a_curve_that_was_never_measured_are_left_as_they_stand(qtbot: Any) -> None:
    held = {"own": {"x": ["1 kHz", "2 kHz"], "low": ["1 dB", "2 dB"]}}
    page = CurveLimitsPage(registry.get("driver-check"), None, held, lambda _key: [])
    qtbot.addWidget(page)
    page.which.setCurrentIndex(page.keys.index("own"))
    assert "once it was measured" in page.told.text() and page.made == held and page.table.rowCount() == 0
    assert not page.add.isEnabled() and not page.take.isEnabled()
    crossed = {"response": {"x": [100, 1000], "low": ["3 dB", "3 dB"], "high": ["1 dB", "1 dB"]}}
    seen = Finding("driver-check", (), (response(0.0),))
    page = CurveLimitsPage(registry.get("driver-check"), seen, crossed, lambda _key: [])
    qtbot.addWidget(page)
    assert "exchange them" in page.told.text() and page.made == crossed and page.table.rowCount() == 2


def test_limits_of_a_test_in_hand_by_its_key(window: Any, demo_lab: Any, monkeypatch: Any) -> None:
    place = demo_lab.jobs / "0412" / "battery-tray" / "random" / "random.plan.yaml"
    window.go("Bench")
    bench = window.bench
    bench.open_plan(place)
    until(lambda: bench.plan_file == place and bench.state == "walk-round" and bool(bench.walk.shown))
    seen = Finding("random-vibration", (Reading("rms", "Control, rms", 20.0, "m/s^2", 0.1),), (
        Curve("control", "Control", tuple(X), tuple(0.1 + 0 * X), "Hz", "(m/s^2)^2/Hz"),))  # fmt: skip
    monkeypatch.setattr("lucid_anvil.desktop.bench.plan_editing.units_of", lambda *_: [
        Unit("good tray", Path("take-001"), seen)])  # fmt: skip
    bench.edit_limits()
    until(lambda: not bench.aside.open)
    sheet = QApplication.activeModalWidget()
    row = next(i for i, (key, _, _) in enumerate(sheet.rows) if key == "rms")
    (offer,) = sheet.readings.offered(row)
    assert offer[1] == "20 m/s^2" and "good tray" in offer[0]
    sheet.readings.count_from(row, offer[1], offer[2])
    sheet.table.item(row, 2).setText("-5 %")
    page = sheet.curves
    page.which.setCurrentIndex(page.keys.index("control"))
    page.below.setText("")
    page.above.setText("50 %")
    page.make.click()
    sheet.done_with()
    until(lambda: not bench.aside.open)
    held = load_yaml(place)["steps"][0]["settings"]
    assert held["limits"]["rms"] == {"low": "-5 %", "of": "20 m/s^2", "from": "good tray, take-001"}
    assert held["curve_limits"]["control"]["high"] == [0.15, 0.15]
    assert bench.prepared.settings.curve_limits["control"].made_from == "one unit +50 %"
    bench.editing.undo()
    until(lambda: not bench.aside.open)
    assert "curve_limits" not in load_yaml(place)["steps"][0]["settings"]


def test_a_take_is_read_again_by_limits_that_are_drawn_around_it(qtbot: Any, kept: Any) -> None:
    again = AgainView()
    qtbot.addWidget(again)
    again.show_take(kept)
    again.sheet.rows["curve_limits"].edit.click()
    sheet = again.findChild(LimitsSheet)
    page = sheet.curves
    page.which.setCurrentIndex(page.keys.index("sensitivity"))
    page.below.setText("")
    page.above.setText("1 %")
    page.make.click()
    sheet.done_with()
    assert again.given["curve_limits"]["sensitivity"]["from"] == "one unit +1 %"
    method = registry.get(kept.plan().step.method)

    def judged() -> Finding:
        return held_to_all(kept.finding(), check(method.Settings, again.given, "settings"))

    made = judged()
    assert made.reading("margin_sensitivity").verdict in ("inside", "open")
    assert made.curve("sensitivity").high is not None
    again.given["curve_limits"]["sensitivity"]["high"] = [0.0] * len(again.given["curve_limits"]["sensitivity"]["x"])
    assert judged().verdict == "outside"
