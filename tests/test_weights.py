"""Force against dead weights and pressure against a balance: no reference is read, what is laid on is known."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from pypdf import PdfReader
from PyQt6.QtWidgets import QApplication
from tests.test_comparison_run import QUICK, TODAY, sensors_of
from tests.test_desktop import until

from lucid_anvil.contracts.finding import Finding
from lucid_anvil.contracts.recording import channel_of
from lucid_anvil.contracts.settings import check
from lucid_anvil.core.errors import BadInput
from lucid_anvil.desktop.bench.calibrate_sheet import with_units
from lucid_anvil.domains.steps.force_comparison import METHOD as FORCE
from lucid_anvil.domains.steps.standin import PressBench
from lucid_anvil.domains.steps.weights import Weights
from lucid_anvil.engine.inprocess import Played, play_through
from lucid_anvil.engine.preparing import Prepared, prepared_from
from lucid_anvil.folio.accepting import accept_take
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.ledger import Calibration, Sensor
from lucid_anvil.lab.place import Lab
from lucid_anvil.lab.plans import Plan
from lucid_anvil.lab.steps_planning import Laid, steps_plan, weights_for
from lucid_anvil.lab.takes import Take
from lucid_anvil.lab.textfiles import load_yaml
from lucid_anvil.rig.model import Rig

MASSES = ["50 kg", "100 kg", "200 kg", "300 kg", "400 kg"]
HERE = {"gravity": "9.813 m/s^2", "air_density": "1.19 kg/m^3", "density": "8000 kg/m^3"}


@pytest.fixture(scope="module")
def lab(tmp_path_factory: pytest.TempPathFactory) -> Lab:
    return begin_lab(tmp_path_factory.mktemp("lab") / "own", "Bench of one", [], "K.B.", True)


def laid(lab: Lab, name: str, settings: dict[str, Any], **scene: Any) -> Prepared:
    """A bench with the unit alone, on which a stand-in of a person lays weights."""
    place = lab.folder / "rigs" / f"{name}.rig.yaml"
    data = load_yaml(place)
    data["standin"]["scene"] |= {"hand": True, **scene}
    data["channels"] = [c for c in data["channels"] if c["role"] == "unit"]
    data["guards"] = [g for g in data["guards"] if g.get("channel") != "reference"]
    method = "force-comparison" if name == "press" else "pressure-comparison"
    sensors = {k: v for k, v in sensors_of(lab, place).items() if k == "unit"}
    plan = Plan.model_validate({"lucid-anvil-plan": 1, "title": method, "sensors": sensors,
                                "steps": [{"method": method, "settings": settings}]})  # fmt: skip
    return prepared_from(plan, lab.folder / "here.plan.yaml", Rig.model_validate(data), place)


def read(p: Prepared, played: Played) -> Finding:
    return p.method.evaluate(played.channels, p.settings, played.marks)


def test_what_weights_press_with() -> None:
    held = check(Weights, {"loads": MASSES, **HERE}, "weights")
    assert held.forces() == pytest.approx([m * 9.813 * (1 - 1.19 / 8000) for m in (50, 100, 200, 300, 400)], rel=1e-12)
    balance = check(Weights, {"loads": ["10 bar", "20 bar", "40 bar"], **HERE, "expansion": 2.2e-5,
                              "temperature": "23 degC"}, "weights")  # fmt: skip
    by = 9.813 / 9.80665 * (1 - 1.19 / 8000) / (1 - 1.2 / 8000) / (1 + 2.2e-5 * 3)
    assert balance.pressures() == pytest.approx([1e6 * by, 2e6 * by, 4e6 * by], rel=1e-12)
    for wrong, why in (({"loads": ["2 kg", "1 kg", "3 kg"]}, "rise from one"), ({"loads": ["0 kg", "1 kg", "3 kg"]}, "above"),
                       ({"loads": ["1 N", "2 N", "3 N"]}, "kg")):  # fmt: skip
        with pytest.raises(BadInput, match=why):
            check(Weights, wrong, "weights").forces()
    for wrong, why in (({"loads": MASSES, "gravity": "98 m/s^2"}, "gravity"), ({"loads": ["1 kg"]}, "at least 3"),
                       ({"loads": MASSES, "air_density": "120 kg/m^3"}, "thousandth")):  # fmt: skip
        with pytest.raises(BadInput, match=why):
            check(Weights, wrong, "weights")


def test_a_transducer_under_dead_weights(lab: Lab) -> None:
    course = {**QUICK, "weights": {"loads": MASSES, **HERE}}
    p = laid(lab, "press", {"reference_uncertainty": "0.01 %", "course": course}, turn=0.005, hysteresis=0.01, bow=0.005)
    assert [c.role for c in p.rig.channels] == ["unit"] and p.course()
    played = play_through(p)
    assert played.trip is None and not np.any(played.drive)
    found = read(p, played)
    s = found.reading("sensitivity")
    assert s.value is not None and s.uncertainty is not None and abs(s.value - 2.172e-3) < s.uncertainty
    assert found.reading("class").value is not None and found.reading("repeatability").value < 0.01
    x = found.curve("fit").x
    assert x == pytest.approx([m * 9.813 * (1 - 1.19 / 8000) for m in (50, 100, 200, 300, 400)], rel=1e-9)
    assert any("gravity 9.81300 m/s²" in n for n in found.notes)


def test_a_transmitter_on_a_pressure_balance(lab: Lab) -> None:
    weights = {"loads": ["12 bar", "24 bar", "36 bar", "48 bar", "60 bar"], **HERE}
    p = laid(lab, "pressure", {"reference_uncertainty": "0.01 %", "span": {"low": "0 bar", "high": "60 bar"},
                               "output": {"low": "0 V", "high": "0.6 V"}, "course": {**QUICK, "weights": weights}})  # fmt: skip
    played = play_through(p)
    found = read(p, played)
    curve = found.curve("error_up")
    by = 9.813 / 9.80665 * (1 - 1.19 / 8000) / (1 - 1.2 / 8000)
    assert curve.x == pytest.approx([0.0, *(k * 1.2e6 * by for k in range(1, 6))], rel=1e-9)
    # As against a reference that is read: the same bench with its own reference tells the same errors.
    scene = p.rig.standin.scene
    assert found.reading("hysteresis").value == pytest.approx(scene.hysteresis, abs=0.02)  # type: ignore[union-attr]


def test_a_weight_too_few_is_waited_for(lab: Lab, monkeypatch: pytest.MonkeyPatch) -> None:
    p = laid(lab, "press", {"course": {**QUICK, "preloads": 0, "weights": {"loads": MASSES, **HERE}}})
    lay = PressBench.command

    def forgets(self: PressBench, name: str, value: object) -> None:
        """One of 50 kg lies aside where 400 are asked for."""
        lay(self, name, float(str(value)) * 350 / 400 if name == "lay" and float(str(value)) > 3900 else value)

    monkeypatch.setattr(PressBench, "command", forgets)
    played = play_through(p, longest=60.0)
    read_ = [m["nominal"] for m in played.marks if m["kind"] == "step"]
    assert read_ == pytest.approx([0.0, *(m * 9.813 * (1 - 1.19 / 8000) for m in (50, 100, 200, 300))])


def test_a_unit_that_is_not_the_one_named_is_not_read(lab: Lab) -> None:
    p = laid(lab, "press", {"course": {**QUICK, "preloads": 0, "weights": {"loads": MASSES, **HERE}}}, scale=60.0)
    assert [m["nominal"] for m in play_through(p, longest=40.0).marks if m["kind"] == "step"] == [0.0]


def test_what_is_missing_is_said(lab: Lab) -> None:
    with pytest.raises(BadInput, match="no channel has the role 'reference'"):
        laid(lab, "press", {"course": {**QUICK, "top": "4 kN"}})
    record = {"unit": channel_of("unit", "V", 100.0, np.zeros(1000))}
    settings = check(FORCE.Settings, {"course": {"weights": {"loads": MASSES}}}, "settings")
    with pytest.raises(BadInput, match="steps: there is none"):
        FORCE.evaluate(record, settings, ())
    assert FORCE.needs(settings) == ("unit",) and FORCE.needs(check(FORCE.Settings, {}, "s")) == ("reference", "unit")


def enter_weights(lab: Lab) -> None:
    ledger = lab.ledger()
    ledger.add(Sensor("W-500", "weight", "own", "set of ten", unit="kg", nominal=50.0, use="reference"))
    ledger.append("W-500", Calibration(TODAY, 50.0, "kg", "external", None, 0.004, "K-1412", "Mass lab", None, "none"))
    ledger.close()


def test_a_plan_with_weights_of_the_ledger(demo_lab: Lab) -> None:
    made = Laid("W-500", ["50 kg", "100 kg", "200 kg"], "9.813 m/s^2")
    with pytest.raises(BadInput, match="W-500"):
        steps_plan(demo_lab, "GF-01", top="", today=TODAY, laid=made)
    enter_weights(demo_lab)
    ledger = demo_lab.ledger()
    assert weights_for(ledger.entries(), "force-comparison") == ["W-500"]
    assert weights_for(ledger.entries(), "pressure-comparison") == []
    ledger.close()
    plan = steps_plan(demo_lab, "GF-01", top="", today=TODAY, wait="1 s", laid=made)
    settings = plan["steps"][0]["settings"]
    assert settings["course"] == {"wait": "1 s", "weights": {"loads": list(made.loads), "gravity": "9.813 m/s^2"}}
    assert settings["reference_uncertainty"] == "0.004 %" and plan["sensors"]["reference"]["serial"] == "W-500"
    with pytest.raises(BadInput, match="no weight in use"):
        steps_plan(demo_lab, "GF-01", top="", today=TODAY, laid=Laid("GF-40", ["50 kg"]))
    assert with_units(["5", "10", "20 kg"]) == ["5 kg", "10 kg", "20 kg"]
    with pytest.raises(BadInput, match="with their unit"):
        with_units(["5", "10"])


def test_weights_are_chosen_in_the_window_and_stand_on_the_certificate(window: Any, demo_lab: Lab) -> None:
    enter_weights(demo_lab)
    place = demo_lab.folder / "rigs" / "press.rig.yaml"
    place.write_text(place.read_text().replace("kind: press,", "kind: press, hand: true,"))
    window.ledger.reload("GF-01")
    until(window.ledger.go.isEnabled)
    window.ledger.go.click()
    sheet = QApplication.activeModalWidget()
    sheet.fields.boxes["how"].setCurrentText("by weights, W-500")
    assert not sheet.fields.boxes["top"].isEnabled() and sheet.fields.boxes["loads"].isEnabled()
    for key, text in (("loads", "50, 100, 200, 300, 400 kg"), ("gravity", "9.813 m/s^2"), ("wait", "0.5 s")):
        sheet.fields.boxes[key].setText(text)
    sheet.done_with()
    bench = window.bench

    def sign() -> bool:
        for one in bench.walk.shown:
            if one.kind == "signed" and not one.done:
                bench.walk.sign.emit(one.key, "K.B.")
        return bool(bench.walk.go.isEnabled())

    until(lambda: bench.state == "walk-round" and sign())
    bench.walk.go.click()

    def over() -> bool:
        if bench.plain.done.isVisible():
            bench.plain.go()
        return bool(bench.state == "done")

    until(over)
    assert bench.finding.complete and bench.plain.enter.isVisible()
    number = accept_take(demo_lab, Take(bench.take), bench.finding, "as found", "K.B.", False)
    said = " ".join(p.extract_text() for p in PdfReader(demo_lab.certificates / f"{number}.pdf").pages)
    assert "W-500" in said and "gravity 9.81300" in said and "K-1412" in said


def test_a_unit_some_percent_off_its_entry_is_preloaded_and_read_all_the_same(lab: Lab) -> None:
    p = laid(lab, "press", {"course": {**QUICK, "preloads": 1, "weights": {"loads": MASSES, **HERE}}}, scale=-5.0)
    played = play_through(p, longest=300.0)
    assert len([m for m in played.marks if m["kind"] == "step"]) > 20
    assert read(p, played).reading("sensitivity").value == pytest.approx(0.95 * 2.172e-3, rel=2e-3)
