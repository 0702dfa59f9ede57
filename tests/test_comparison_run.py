"""Force and pressure compared step by step: driven, by hand, against lying sensors, into the ledger and on paper."""

from __future__ import annotations

import datetime
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from lucid_anvil.contracts.finding import Finding
from lucid_anvil.core.errors import BadInput
from lucid_anvil.domains.steps.comparison_course import Turn, force_stages, stretches
from lucid_anvil.engine.inprocess import Played, play_through
from lucid_anvil.engine.preparing import Prepared, prepared_from
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.ledger import Sensor
from lucid_anvil.lab.place import Lab
from lucid_anvil.lab.planning import sensors_of
from lucid_anvil.lab.plans import Plan
from lucid_anvil.lab.steps_planning import reference_doubt, steps_plan
from lucid_anvil.lab.textfiles import load_yaml
from lucid_anvil.rig.model import Fault, Rig

TODAY = datetime.date.today()
QUICK = {"wait": "1 s", "steps": 5, "read": "1 s", "preloads": 1}


@pytest.fixture(scope="module")
def lab(tmp_path_factory: pytest.TempPathFactory) -> Lab:
    return begin_lab(tmp_path_factory.mktemp("lab") / "own", "Bench of one", [], "K.B.", True)


def prepared(lab: Lab, rig: str, settings: dict[str, Any], **scene: Any) -> Prepared:
    """A comparison on a bench of stand-ins, its scene changed."""
    place = lab.folder / "rigs" / f"{rig}.rig.yaml"
    data = load_yaml(place)
    data["standin"]["scene"] |= scene
    method = "force-comparison" if rig == "press" else "pressure-comparison"
    plan = Plan.model_validate({
        "lucid-anvil-plan": 1, "title": method, "sensors": sensors_of(lab, place),
        "steps": [{"method": method, "settings": settings}],
    })  # fmt: skip
    return prepared_from(plan, lab.folder / "here.plan.yaml", Rig.model_validate(data), place)


def force(lab: Lab, course: dict[str, Any], **scene: Any) -> Prepared:
    settings = {"reference_uncertainty": "0.02 %", "course": {"top": "4 kN", **QUICK, **course}}
    return prepared(lab, "press", settings, **scene)


def pressure(lab: Lab, course: dict[str, Any], **scene: Any) -> Prepared:
    settings = {"reference_uncertainty": "0.02 %", "span": {"low": "0 bar", "high": "60 bar"},
                "output": {"low": "0 V", "high": "0.6 V"},
                "course": {"top": "60 bar", "drive": "hand", **QUICK, **course}}  # fmt: skip
    return prepared(lab, "pressure", settings, **scene)


def read(p: Prepared, played: Played) -> Finding:
    return p.method.evaluate(played.channels, p.settings, played.marks)


def load_of(p: Prepared, played: Played) -> np.ndarray:
    """N or Pa on the reference; in this stand-in it is true."""
    return np.asarray(played.channels["reference"].samples()) / p.facts.sensitivity["reference"]


def test_the_order_of_a_force_comparison(lab: Lab) -> None:
    p = force(lab, {"creep": True})
    stages = force_stages(p.settings.course)
    turns = [s.position for s in stages if isinstance(s, Turn)]
    assert turns == [120.0, 240.0]
    steps = [s for s in stages if not isinstance(s, Turn) and s.read]
    assert [s.load for s in steps if s.series == 1] == [0, 800, 1600, 2400, 3200, 4000, 0]
    assert [s.load for s in steps if s.series == 3] == [0, 800, 1600, 2400, 3200, 4000, 3200, 2400, 1600, 800, 0]
    assert {s.position for s in steps if s.series == 4} == {240.0} and stages[-1].creeps
    labels = [c.label for c in p.course()]
    assert labels[:4] == ["Preload", "Series 1", "Series 2", "Turn to 120°"] and labels[-1] == "Creep"
    assert [i for i, _ in stretches(stages)] == sorted(i for i, _ in stretches(stages))
    assert max(i for i, _ in stretches(stages)) == len(labels) - 1


@pytest.mark.parametrize(("turn", "hysteresis", "best"), [(0.005, 0.02, 0.5), (0.08, 0.02, 1.0), (0.12, 0.02, 2.0),
                                                          (0.005, 0.5, None)])  # fmt: skip
def test_a_driven_force_comparison_tells_the_class(
    lab: Lab, turn: float, hysteresis: float, best: float | None
) -> None:
    p = force(lab, {}, turn=turn, hysteresis=hysteresis, bow=0.005)
    played = play_through(p)
    assert played.trip is None
    found = read(p, played)
    b = found.reading("reproducibility")
    # Mountings at 0, 120 and 240° show turn·cos(angle − 40°): −0.94 to 0.77, and 0.17.
    assert b.value == pytest.approx(turn * (np.cos(np.radians(40)) + np.cos(np.radians(20))), abs=0.004)
    assert found.reading("class").value == best
    s = found.reading("sensitivity")
    assert abs(s.value - 2.172e-3) < s.uncertainty + 2.172e-3 * hysteresis / 100 / 2
    assert found.reading("zero").value < 0.005 and found.reading("repeatability").value < 0.005
    # The press was never beyond its highest step, and only rose while a series rose.
    load = load_of(p, played)
    assert load.max() < 4000 * 1.001
    for m in (m for m in played.marks if m["kind"] == "step" and m["nominal"] > 0):
        part = load[int(m["start"] * 1000) : int(m["stop"] * 1000)]
        assert abs(part.mean() / m["nominal"] - 1) < 0.02
    smooth = np.convolve(load, np.ones(200) / 200, "valid")[::50]
    one = [m for m in played.marks if m["kind"] == "step" and m["series"] == 1 and m["nominal"] > 0]
    rising = smooth[int(one[0]["start"] * 20) : int(one[-1]["stop"] * 20)]
    assert np.diff(rising).min() > -1.0
    assert np.asarray(played.channels["drive"].samples())[-1] == 0 and load[-1] < 5


@pytest.mark.parametrize("when", [3.0, 40.0])
@pytest.mark.parametrize(("channel", "size"), [("reference", -0.5), ("unit", -0.5), ("reference", 0.4)])
def test_a_sensor_that_lies_does_not_press_harder(lab: Lab, channel: str, size: float, when: float) -> None:
    p = force(lab, {})
    p.rig.standin.faults.append(Fault(at=when, kind="gain_jump", channel=channel, size=size))
    played = play_through(p)
    assert played.trip is not None and played.trip.guard == "chain" and "one of the two lies" in played.trip.label
    load = load_of(p, played).copy()
    if channel == "reference":
        load[int(when * p.facts.rate) :] /= 1 + size
    assert load.max() < 4000 * 1.02  # the true one
    assert played.drive[-1] == 0


def test_a_sensor_that_is_not_the_one_named_is_found_before_it_is_loaded(lab: Lab) -> None:
    p = force(lab, {}, scale=60.0)
    played = play_through(p)
    assert played.trip is not None and "stands in the Ledger" in played.trip.label
    assert load_of(p, played).max() < 0.2 * 4000


def test_a_press_that_does_nothing_is_no_reason_to_turn_it_up(lab: Lab) -> None:
    p = force(lab, {}, full="1 N")
    played = play_through(p)
    assert played.trip is not None and "half its range" in played.trip.label and played.trip.guard == "control_lost"
    assert np.abs(played.drive).max() < 6 and played.drive[-1] == 0


@pytest.mark.parametrize(("scene", "course", "why"), [({"full": "120 N"}, {}, "at its end"), ({"full": "3 kN"}, {}, "did not come to"),
                                                      ({}, {"steady": "0.0000001 %"}, "does not come to rest")])  # fmt: skip
def test_what_never_comes_is_not_waited_for_for_ever(
    lab: Lab, scene: dict[str, Any], course: dict[str, Any], why: str
) -> None:
    p = force(lab, course, **scene)
    played = play_through(p)
    assert played.trip is not None and why in played.trip.label and played.drive[-1] == 0


def test_by_hand_the_gauge_says_what_to_do(lab: Lab) -> None:
    p = pressure(lab, {"series": 2})
    words: list[str] = []
    performance = p.method.perform

    def listening(*given: Any) -> Any:
        run = performance(*given)
        got = None
        while True:
            try:
                want = run.send(got) if got is not None else next(run)
            except StopIteration:
                return
            if want.live and "gauge" in want.live:
                words.append(want.live["gauge"]["word"])
            got = yield want

    object.__setattr__(p.method, "perform", listening)
    try:
        played = play_through(p)
    finally:
        object.__delattr__(p.method, "perform")
    assert played.trip is None and not np.any(played.drive)
    assert {"rise", "lower", "hold", "reading"} <= set(words)
    found = read(p, played)
    assert found.reading("span_error").value == pytest.approx(-1.59, abs=0.03)
    assert found.reading("hysteresis").value == pytest.approx(0.1, abs=0.01)
    made = p.method.calibration(found, "mV/bar")
    assert made.value == pytest.approx(9.841, rel=made.uncertainty / 100) and made.unit == "mV/bar"


def test_creep_and_a_strain_gauge_behind_its_amplifier(lab: Lab) -> None:
    p = force(lab, {"creep": True, "positions": ["0 deg"], "same": 1})
    p.settings.amplifier = "5 V/(mV/V)"
    found = read(p, play_through(p))
    assert found.reading("creep").value < 0.01 and found.reading("class").value is None
    made = p.method.calibration(found, "mV/V")
    assert made.value == pytest.approx(2.172e-3 * 4000 / 5, rel=1e-3) and made.at == "at 4000 N"
    assert [row[0] for row in made.points] == [800, 1600, 2400, 3200, 4000]
    with pytest.raises(BadInput, match="can't be turned"):
        p.method.calibration(found, "mV/N")


def test_a_plan_from_the_ledger(lab: Lab) -> None:
    made = steps_plan(lab, "GF-01", top="4 kN", today=TODAY, wait="20 s")
    settings = made["steps"][0]["settings"]
    assert settings["course"] == {"top": "4 kN", "steps": 10, "wait": "20 s"} and made["sensors"]["reference"]
    ledger = lab.ledger()
    reference = ledger.entry("GF-40")
    assert settings["reference_uncertainty"] == f"{reference_doubt(reference, TODAY):.3g} %"
    assert reference_doubt(reference, TODAY) >= reference.last.uncertainty
    later = TODAY + datetime.timedelta(days=900)
    assert reference_doubt(reference, later) > reference_doubt(reference, TODAY)
    made = steps_plan(lab, "GP-08", top="60 bar", today=TODAY, hand=True)
    assert made["steps"][0]["settings"]["output"] == {"low": "0 V", "high": "0.6 V"}
    for serial, more, why in (
        ("GA-11", {}, "nothing here calibrates that"), ("GL-02", {}, "no rig has a reference"),
        ("GF-01", {"top": "-3 kN"}, "highest step"), ("GF-01", {"top": "4 bar"}, "up to"),
    ):  # fmt: skip
        with pytest.raises(BadInput, match=why):
            steps_plan(lab, serial, **{"top": "4 kN", "today": TODAY, **more})
    ledger.add(Sensor("GL-9", "load cell", unit="mV/V", nominal=2.0))
    with pytest.raises(BadInput, match="amplifier makes"):
        steps_plan(lab, "GL-9", top="4 kN", today=TODAY, rig_file=lab.folder / "rigs" / "press.rig.yaml")
    ledger.retire("GF-40", "K.B.", "dropped", TODAY)
    with pytest.raises(BadInput, match="retired"):
        steps_plan(lab, "GF-01", top="4 kN", today=TODAY)


def test_from_the_ledger_to_the_certificate_in_the_window(window: Any, demo_lab: Any, tmp_path: Path) -> None:
    from PyQt6.QtCore import Qt
    from PyQt6.QtTest import QTest
    from PyQt6.QtWidgets import QApplication
    from tests.test_desktop import until

    from lucid_anvil.folio import steps_certificate
    from lucid_anvil.folio.certificate import accepted_of
    from lucid_anvil.lab.takes import Take

    left = Qt.MouseButton.LeftButton
    window.ledger.reload("GL-02")
    until(lambda: "No rig compares force" in window.ledger.why_not.text())
    assert not window.ledger.go.isEnabled()
    window.ledger.reload("GF-01")
    until(window.ledger.go.isEnabled)
    QTest.mouseClick(window.ledger.go, left)
    sheet = QApplication.activeModalWidget()
    sheet.done_with()
    assert "highest step" in sheet.wrong.text()
    for key, text in (("top", "4 kN"), ("steps", "5"), ("wait", "1 s")):
        sheet.fields.boxes[key].setText(text)
    sheet.done_with()
    bench = window.bench

    def sign() -> bool:
        for i in range(bench.walk.rows.count()):
            row = bench.walk.rows.itemAt(i).widget()
            if row is not None and row.can_sign:
                QTest.mouseClick(row, left)
        return bench.walk.go.isEnabled()

    until(lambda: bench.state == "walk-round" and sign())
    QTest.mouseClick(bench.walk.go, left)
    seen: set[str] = set()

    def over() -> bool:
        if bench.plain.done.isVisible():
            seen.add(bench.told.text())
            QTest.mouseClick(bench.plain.done, left)
        if bench.plain.stage.gauge.isVisible():
            seen.add(bench.plain.stage.gauge.word)
        return bench.state == "done"

    until(over)
    assert {"Rise", "Hold", "Reading"} <= seen and any("turn the unit to 120°" in t for t in seen)
    assert bench.plain.enter.isVisible() and "mV/N, at 4000 N" in bench.plain.result.big.text()
    QTest.mouseClick(bench.plain.enter, left)
    sheet = QApplication.activeModalWidget()
    sheet.fields.boxes["by"].setText("")
    sheet.done_with()
    assert "initials" in sheet.wrong.text()
    sheet.fields.boxes["by"].setText("M.O.")
    sheet.done_with()
    until(lambda: not bench.aside.open)
    last = demo_lab.ledger().entry("GF-01").last
    assert last.by == "M.O." and last.sensitivity == pytest.approx(2.172, rel=1e-3) and last.frequency is None
    assert (demo_lab.certificates / f"{last.certificate}.pdf").is_file() and not bench.plain.enter.isVisible()
    take = Take(bench.take)
    told = steps_certificate.context(take, take.finding(), demo_lab, accepted_of(take, demo_lab))
    assert told["number"] == last.certificate and told["value_unit"] == "mV/N" and len(told["rows"]) == 5
    assert told["reference"].serial == "GF-40" and told["method"] == "Comparison, ISO 376"
    assert next(r for r in told["readings"] if r["label"] == "Class of ISO 376")["value"] in ("0.5", "1", "2")
    assert all("e-" not in cell for row in told["rows"] for cell in row)


def test_at_the_command_line(demo_lab: Any, capsys: pytest.CaptureFixture[str]) -> None:
    from lucid_anvil.cli import app

    def call(*words: str) -> None:
        app(["plan", "calibrate", *words, "--lab", str(demo_lab.folder)], standalone_mode=False)

    for words, why in ((["GF-01"], "highest step"), (["GF-01", "--top", "4 kN", "--as", "new"], "as found")):
        with pytest.raises(BadInput, match=why):
            call(*words)
    call("GF-01", "--top", "4 kN", "--steps", "3", "--wait", "1 s")
    place = Path(capsys.readouterr().err.split("Wrote ")[1].strip().rstrip("."))
    course = load_yaml(place)["steps"][0]["settings"]["course"]
    assert course == {"top": "4 kN", "steps": 3, "wait": "1 s"}
    call("GA-11")  # by vibration, as ever
