"""Plans made from plans: copies, patterns, the next unit, one from a take."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication
from tests.test_desktop import until

from lucid_anvil.core.errors import BadInput
from lucid_anvil.desktop.parts.docket import TakeRow
from lucid_anvil.engine.preparing import prepare
from lucid_anvil.lab import patterns
from lucid_anvil.lab.finding_things import find, things
from lucid_anvil.lab.takes import Take, begin_take
from lucid_anvil.lab.textfiles import dump_yaml, load_yaml


def tray(lab: Any) -> Path:
    place = lab.jobs / "0412" / "battery-tray" / "sine" / "sine.plan.yaml"
    place.write_text(place.read_text().replace("steps:", "# by hand\nsteps:"))
    return place


def test_a_copy_runs_and_keeps_its_text_and_files(demo_lab: Any) -> None:
    plan = tray(demo_lab)
    before = prepare(plan)
    made = patterns.duplicate(plan)
    after = prepare(made)
    assert (
        made.parent.name == "sine-2"
        and "# by hand" in made.read_text()
        and (made.parent / "sine.profile.yaml").exists()
    )
    assert after.settings == before.settings and after.rig == before.rig and after.plan.title.endswith(", copy")
    # Its profile is its own: a change there leaves the first one alone.
    (made.parent / "sine.profile.yaml").write_text(
        (plan.parent / "sine.profile.yaml").read_text().replace("400 Hz", "300 Hz")
    )
    assert prepare(plan).settings == before.settings


def test_a_pattern_is_kept_and_begun_for_a_unit(demo_lab: Any) -> None:
    plan = tray(demo_lab)
    kept = patterns.keep_pattern(demo_lab, plan, "Deck equipment, sine")
    assert patterns.patterns(demo_lab) == [("Deck equipment, sine", kept)] and load_yaml(kept)["article"] == ""
    with pytest.raises(BadInput, match="already"):
        patterns.keep_pattern(demo_lab, plan, "deck equipment SINE")
    made = prepare(patterns.for_unit(demo_lab, kept, "BT-3 no 17"))
    assert made.plan.article == "BT-3 no 17" and made.plan.title == "Deck equipment, sine, BT-3 no 17"
    assert made.plan_file.parent.parent.name == "bt-3-no-17" and made.plan.rig == "../../../../rigs/shaker.rig.yaml"
    again = patterns.for_unit(demo_lab, made.plan_file, "BT-3 no 18")
    assert load_yaml(again)["title"] == "Deck equipment, sine, BT-3 no 18"
    with pytest.raises(BadInput, match="what is tested"):
        patterns.for_unit(demo_lab, kept, " ")
    with pytest.raises(BadInput, match="letter or a digit"):
        patterns.for_unit(demo_lab, kept, "//")


def test_a_plan_that_can_not_be_copied_leaves_nothing(demo_lab: Any) -> None:
    plan = tray(demo_lab)
    plan.write_text(plan.read_text().replace("steps:", "stepps:"))
    with pytest.raises(BadInput):
        patterns.for_unit(demo_lab, plan, "New one")
    assert not (demo_lab.jobs / "0412" / "new-one").exists() and not list(plan.parent.parent.glob("sine-2"))


def test_a_take_gives_its_settings_to_a_new_plan(demo_lab: Any) -> None:
    plan = tray(demo_lab)
    folder = plan.parent / "take-001"
    held = load_yaml(plan)
    held["steps"][0]["settings"]["profile"] = {**load_yaml(plan.parent / "sine.profile.yaml"), "stop": "250 Hz"}
    held["steps"][0]["settings"]["course"] = [{"sweep": "down"}]
    begin_take(folder, dump_yaml(held), "rig: x\n")
    made = prepare(patterns.from_take(Take(folder)))
    assert made.settings.profile["stop"] == "250 Hz" and made.settings.course[0].sweep == "down"
    assert made.plan_file.parent.name == "sine-from-take-001" and made.plan.title.endswith(", as take-001")
    assert made.rig == prepare(plan).rig


def test_the_next_unit_is_a_serial_and_enter(window: Any, demo_lab: Any) -> None:
    plan = tray(demo_lab)
    window.go("Bench")
    bench = window.bench
    bench.menus.keep_pattern(plan)
    asked = QApplication.activeModalWidget()
    asked.line.setText("Deck sine")
    asked._take()
    assert "Deck sine" in window.strip.text()
    bench.menus.next_unit(plan)
    asked = QApplication.activeModalWidget()
    QTest.keyClicks(asked.line, "BT-3-0042\r")
    until(
        lambda: (
            bench.plan_file is not None and bench.plan_file.parent.parent.name == "bt-3-0042" and not bench.aside.open
        )
    )
    bench.new_test()
    sheet = QApplication.activeModalWidget()
    assert "Deck sine" in sheet.rows
    sheet.rows["Deck sine"].clicked.emit("Deck sine")
    assert not sheet.fields.boxes["rig"].isVisible()
    sheet.fields.boxes["article"].setText("BT-3-0043")
    sheet.done_with()
    until(lambda: bench.plan_file.parent.parent.name == "bt-3-0043" and not bench.aside.open)
    assert bench.prepared.method.name == "sine-sweep"


def test_a_take_gets_a_name_and_a_remark_that_is_found(window: Any, demo_lab: Any) -> None:
    plan = tray(demo_lab)
    folder = plan.parent / "take-001"
    begin_take(folder, plan.read_text(), "rig: x\n")
    (folder / "events.jsonl").write_text('{"kind": "end", "t": 1.0, "status": "done", "reason": null}\n')
    take = Take(folder)
    assert take.remark() is None
    with pytest.raises(BadInput, match="initials"):
        take.say("a", "b", " ")
    window.go("Bench")
    window.bench.menus.remark(take)
    sheet = QApplication.activeModalWidget()
    sheet.fields.boxes["name"].setText("after the new cable")
    sheet.fields.boxes["text"].setPlainText("lid was rattling")
    sheet.done_with()
    take.say("after the second cable", "", "K.B.")
    assert (
        take.remark()["name"] == "after the second cable"
        and len((folder / "remarks.jsonl").read_text().splitlines()) == 2
    )
    assert [t.kind for t in find(things(demo_lab), "second cable")] == ["take"]
    window.bench.docket.show_plan(plan, None, False)
    QApplication.processEvents()
    shown = [r.facts["said"] for r in window.bench.docket.findChildren(TakeRow) if not r.isHidden()]
    assert "after the second cable" in shown
