"""What a load frame gives way by: measured with a blank, kept in the ledger, used by the next test."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from tests.reading import read, value

from lucid_anvil.core.errors import BadInput
from lucid_anvil.engine.inprocess import play_through
from lucid_anvil.engine.newplan import begin_plan
from lucid_anvil.engine.preparing import prepare
from lucid_anvil.engine.taking import tell_ledger
from lucid_anvil.folio.accepting import accept_take
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.editing import put
from lucid_anvil.lab.ledger import Sensor
from lucid_anvil.lab.place import Lab
from lucid_anvil.lab.plans import load_plan
from lucid_anvil.lab.takes import Take

TRUE = 1e9 / 4e7
"""µm/kN, of the stand-in's frame"""
SCENE = "modulus: 206 GPa, area: 50 mm^2, length: 75 mm"


@pytest.fixture
def lab(tmp_path: Path) -> Lab:
    made = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", True)
    rig = made.folder / "rigs" / "frame.rig.yaml"
    text = rig.read_text().replace("model: FR-50,", "model: FR-50, serial: LF-1,")
    (made.folder / "rigs" / "blank.rig.yaml").write_text(text.replace(SCENE, "modulus: 206 GPa, area: 3 mm^2, length: 75 mm")
                                                         .replace("area: 3 mm^2", "area: 3000 mm^2"))  # fmt: skip
    rig.write_text(text)
    return made


def enter(lab: Lab) -> None:
    ledger = lab.ledger()
    ledger.add(Sensor("LF-1", "load frame", model="FR-50", unit="µm/kN"))
    ledger.close()


def test_it_is_measured_kept_and_used(lab: Lab) -> None:
    with pytest.raises(BadInput, match="stands in no ledger"):
        begin_plan("frame-compliance", lab.folder / "rigs" / "blank.rig.yaml", "Blank", lab.jobs / "b" / "b.plan.yaml")
    enter(lab)
    plan = begin_plan("frame-compliance", lab.folder / "rigs" / "blank.rig.yaml", "Blank", lab.jobs / "b" / "b.plan.yaml")
    stiff = 206e9 * 3000e-6 / 0.075
    put(plan, ("blank_stiffness",), f"{stiff!r} N/m")
    put(plan, ("uncertainty",), {"force": "0.5 %", "displacement": "0.5 %"})
    prepared = prepare(plan)
    played = play_through(prepared)
    assert played.trip is None and played.marks[-1]["why"] == "done"
    force = played.channels["force"].samples() / 2e-4
    assert 10e3 <= force.max() < 10.3e3 and abs(force[-1]) < 400  # and let go again
    held = {k: c for k, c in played.channels.items() if k != "drive"}
    found = prepared.method.evaluate(held, prepared.settings, played.marks)
    reading = found.reading("compliance")
    assert reading.value == pytest.approx(TRUE, rel=3e-3) and 0.005 < reading.uncertainty / reading.value < 0.012
    # As a take, accepted, it stands in the ledger with its date; the next test of that frame begins with it.
    folder = _take(plan)
    ledger = lab.ledger()
    assert ledger.entry("LF-1").last is None
    ledger.close()
    number = accept_take(lab, folder, folder.finding(), "as found", "K.B.", True)  # type: ignore[arg-type]
    assert (lab.certificates / f"{number}.pdf").exists()
    ledger = lab.ledger()
    last = ledger.entry("LF-1").last
    ledger.close()
    assert last is not None and last.unit == "µm/kN" and last.sensitivity == pytest.approx(TRUE, rel=3e-3)
    for name, rig in (("tension", "frame"), ("frame-compliance", "blank")):
        made = load_plan(begin_plan(name, lab.folder / "rigs" / f"{rig}.rig.yaml", "Next", lab.jobs / name / "n.plan.yaml"))
        assert any(c.sense == "device_dates" for c in made.walk_round) == (name == "tension")  # what it measures anew
        if name == "tension":
            settings = prepare(lab.jobs / name / "n.plan.yaml").settings
            assert settings.compliance == pytest.approx(1 / 4e7, rel=3e-3)  # in m/N
            assert made.step.settings["compliance"] == f"{last.sensitivity!r} µm/kN"
            assert made.sensors["frame"].certificate == number and "unit" not in made.sensors
    pulled = _take(lab.jobs / "tension" / "n.plan.yaml")
    assert not tell_ledger(pulled)  # the run has told it already
    ledger = lab.ledger()
    assert any(t["role"] == "frame" for t in ledger.traces("LF-1"))
    ledger.close()


def _take(plan: Path) -> Take:
    """Its take, run as a person runs it."""
    from lucid_anvil.cli import app

    folder = plan.parent / "take-001"
    assert app(["run", str(plan), "--take", str(folder), "--signed-by", "K.B."], standalone_mode=False) in (0, None)
    return Take(folder)


def test_a_run_whose_take_can_t_be_read_says_why(lab: Lab, capsys: pytest.CaptureFixture[str]) -> None:
    from lucid_anvil.cli import app

    plan = begin_plan("tension", lab.folder / "rigs" / "frame.rig.yaml", "Next", lab.jobs / "n" / "n.plan.yaml")
    put(plan, ("specimen", "gauge_length"), None)
    put(plan, ("pull",), {"speed": "60 mm/min", "travel": "2 mm"})
    app(["run", str(plan), "--take", str(plan.parent / "take"), "--signed-by", "K.B."], standalone_mode=False)
    assert "gauge_length is missing" in " ".join("".join(capsys.readouterr()).split())


def test_a_frame_that_nobody_measured_begins_with_none(lab: Lab) -> None:
    enter(lab)
    made = load_plan(begin_plan("tension", lab.folder / "rigs" / "frame.rig.yaml", "Next", lab.jobs / "n" / "n.plan.yaml"))
    assert "compliance" not in made.step.settings and "frame" not in made.sensors


def foreign(noise: float = 0.0, **settings: Any) -> Any:
    rate = 200.0
    force = np.concatenate([np.zeros(100), *([np.linspace(0, 8e3, 900), np.linspace(8e3, 0, 900)] * 3)])
    rng = np.random.default_rng(1)
    way = 3e-8 * force + 2e-5 * (1 - np.exp(-force / 300)) + noise * rng.standard_normal(force.size)
    return read("frame-compliance", rate, {"force": ("N", force), "displacement": ("m", way)}, **settings)


def test_a_record_from_elsewhere_is_read_by_its_rising_branches() -> None:
    found = foreign(noise=1e-7)
    assert value(found, "compliance") == pytest.approx(30, rel=5e-3) and value(found, "spread") < 1
    assert any("3 rising branches" in n for n in found.notes) and any("not taken off" in n for n in found.notes)
    stiff = foreign(blank_stiffness="1e9 N/m")
    assert value(stiff, "compliance") == pytest.approx(29, rel=5e-3)
    assert value(foreign(blank_stiffness="2e7 N/m"), "compliance") is None  # it would give way by more than was seen


@pytest.mark.parametrize(("given", "text"), [({"top": "48 kN"}, "nine tenths"), ({"speed": "6 mm/s"}, "not that fast"),
                                             ({"top": "-1 N"}, "above zero")])  # fmt: skip
def test_what_the_frame_does_not_bear_is_refused(lab: Lab, given: dict[str, str], text: str) -> None:
    enter(lab)
    plan = begin_plan("frame-compliance", lab.folder / "rigs" / "blank.rig.yaml", "Blank", lab.jobs / "b" / "b.plan.yaml")
    for key, held in given.items():
        put(plan, (key,), held)
    with pytest.raises(BadInput, match=text):
        prepare(plan)
