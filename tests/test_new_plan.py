"""Plans of any method, begun with usual settings: at the command line and in the window."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from lucid_anvil.cli import app
from lucid_anvil.contracts import registry
from lucid_anvil.core.errors import BadInput
from lucid_anvil.engine.newplan import new_plan, place_for
from lucid_anvil.engine.preparing import prepare
from lucid_anvil.engine.rehearsal import rehearse
from lucid_anvil.lab.patterns import slug

RIGS = {
    "accelerometer-comparison": "comparison", "sine-sweep": "shaker", "random-vibration": "shaker",
    "microphone-level": "microphone", "impact-response": "hammer", "speed-orders": "pump", "amplifier-sheet": "amplifier",
}  # fmt: skip


@pytest.mark.parametrize("name", RIGS)
def test_a_new_plan_can_be_prepared_as_it_is(name: str, demo_lab: Any, tmp_path: Path) -> None:
    out = demo_lab.jobs / "0412" / "new" / "a" / "a.plan.yaml"
    rig = demo_lab.folder / "rigs" / f"{RIGS[name]}.rig.yaml"
    assert app(["plan", "new", name, str(out), "--rig", str(rig), "--article", "Bracket 7"], standalone_mode=False) == 0
    made = prepare(out)
    assert made.method.name == name and made.plan.article == "Bracket 7" and made.course() and made.plan.walk_round
    assert made.plan.rig is not None and not Path(made.plan.rig).is_absolute()
    with pytest.raises(BadInput, match="exists already"):
        app(["plan", "new", name, str(out), "--rig", str(rig), "--article", "x"], standalone_mode=False)


@pytest.mark.parametrize("name", ["sine-sweep", "random-vibration"])
def test_a_new_shaker_plan_fits_the_demo_shaker(name: str, demo_lab: Any) -> None:
    from lucid_anvil.engine.newplan import begin_plan

    place = begin_plan(name, demo_lab.folder / "rigs" / "shaker.rig.yaml", "Tray", demo_lab.jobs / "n" / "n.plan.yaml")
    text = place.read_text(encoding="utf-8")
    place.write_text(
        text.replace("rate: 1 oct/min", "rate: 4 oct/min"), encoding="utf-8"
    )  # the same in a quarter of it
    assert rehearse(prepare(place)).verdict == "inside"


def test_every_method_says_what_it_is_for_or_what_it_is_a_step_of() -> None:
    for name in registry.names():
        method = registry.get(name)
        assert method.about or registry.get(method.begun_as).about, name


def test_what_can_not_be_is_said_and_nothing_is_left(demo_lab: Any, tmp_path: Path) -> None:
    rigs = demo_lab.folder / "rigs"
    for name, rig, word in (
        ("output-noise", "amplifier", "as a step of amplifier-sheet"), ("impact-response", "shaker", "no channel for force"),
        ("sine-swep", "shaker", "did you mean 'sine-sweep'"), ("time-replication", "shaker", "choose its file"),
    ):  # fmt: skip
        out = tmp_path / "deep" / "er" / "x.plan.yaml"
        with pytest.raises(BadInput, match=word):
            app(["plan", "new", name, str(out), "--rig", str(rigs / f"{rig}.rig.yaml"), "--article", "A"],
                standalone_mode=False)  # fmt: skip
        assert not (tmp_path / "deep").exists()
    with pytest.raises(BadInput, match="letter or a digit"):
        slug(" /.. ")
    (tmp_path / "c.rig.yaml").write_text((rigs / "comparison.rig.yaml").read_text())
    with pytest.raises(BadInput, match="in a ledger"):
        new_plan("accelerometer-comparison", tmp_path / "c.rig.yaml", "x")
    first = place_for(demo_lab, "Battery tray", "Sine")
    assert first.parent.name == "sine-2" and slug("Größe / 2") == "größe-2"


def test_a_new_test_in_the_window_is_a_plan_that_runs(window: Any, demo_lab: Any) -> None:
    from lucid_anvil.desktop.bench.new_test import NewTest
    from test_shaker_window import until

    window.resize(1280, 800)
    window.go("Bench")
    bench = window.bench
    sheet = NewTest(bench, demo_lab)
    sheet.show()
    sheet.rows["random-vibration"].clicked.emit("random-vibration")  # 1
    rigs = sheet.fields.boxes["rig"]
    assert rigs.currentText() == "Shaker" and any(
        "no channel for control" in rigs.itemText(i) for i in range(rigs.count())
    )
    sheet.done_with()
    assert sheet.wrong.isVisible() and "what is tested" in sheet.wrong.text() and sheet.plan is None
    sheet.fields.boxes["article"].setText("Bracket 7")  # 2
    sheet.done_with()  # 3
    assert sheet.plan is not None and sheet.plan.parent.parent.name == "bracket-7"
    bench.open_plan(sheet.plan)
    until(lambda: bench.state == "walk-round" and bool(bench.walk.shown))
    assert bench.prepared.method.name == "random-vibration" and bench.side is bench.kinds["shaker"]
    assert bench.prepared.plan.sensors["control"].serial == "GA-07"


def test_a_new_lab_offers_rigs_for_a_new_test(tmp_path: Path) -> None:
    """From an empty folder: the stand-in benches that a beginning offers serve every method that has plans of its own."""
    from lucid_anvil.desktop.bench.new_test import rigs_of
    from lucid_anvil.engine.newplan import suits
    from lucid_anvil.lab.beginning import begin_lab

    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", True)
    rigs = [rig for _, _, rig in rigs_of(lab)]
    for name in ("sine-sweep", "random-vibration", "impact-response", "speed-orders", "amplifier-sheet"):
        assert any(rig is not None and suits(name, rig) is None for rig in rigs), name
