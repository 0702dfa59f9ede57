"""Plans of several steps of any methods: run one after the other, each with its own take, and what moved at the end."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication
from tests.test_desktop import until

from lucid_anvil.cli import app
from lucid_anvil.contracts.finding import Finding, Reading
from lucid_anvil.core.errors import BadInput
from lucid_anvil.engine.newplan import begin_plan
from lucid_anvil.engine.preparing import prepare
from lucid_anvil.engine.running import steps_of
from lucid_anvil.lab import series as lab_series
from lucid_anvil.lab.series import begin_series, finding_of, joined_plan, moved, series_in
from lucid_anvil.lab.takes import Take, begin_take
from lucid_anvil.lab.textfiles import dump_yaml, load_yaml

SINE = {"kind": "sine", "start": "80 Hz", "stop": "160 Hz", "segments": [{"acceleration": "5 m/s^2"}],
        "sweep": {"law": "log", "rate": "12 oct/min"}}  # fmt: skip
RANDOM = {"kind": "random", "points": [{"frequency": "20 Hz", "density": "0.05 (m/s^2)^2/Hz"},
                                       {"frequency": "500 Hz", "density": "0.05 (m/s^2)^2/Hz"}]}  # fmt: skip
COURSE = [{"sweep": "up"}, {"follow": "resonance", "duration": "6 s", "channel": "response"}]


def written(lab: Any, **changes: Any) -> Path:
    """Resonance search, random, resonance search again, on the demo's shaker."""
    held = load_yaml(lab.jobs / "0412" / "battery-tray" / "random" / "random.plan.yaml")
    keep = {k: v for k, v in held.items() if k not in ("steps", "title")}
    look = {"method": "sine-sweep", "label": "Resonance search", "settings": {"profile": SINE, "course": COURSE}}
    endure = {"method": "random-vibration", "label": "Endurance",
              "settings": {"profile": RANDOM, "course": [{"random": True, "duration": "6 s"}]}}  # fmt: skip
    place = lab.jobs / "0412" / "tray" / "all" / "all.plan.yaml"
    place.parent.mkdir(parents=True, exist_ok=True)
    plan = {**keep, "title": "Search, endure, search", "steps": [look, endure, {**look, "label": "Search again"}],
            "compare": {"dwell_1_frequency": {"low": "-2 Hz", "high": "2 Hz"}}, **changes}  # fmt: skip
    place.write_text(dump_yaml(plan))
    rig = lab.folder / "rigs" / "shaker.rig.yaml"
    rig.write_text(rig.read_text().replace("rate: 10.24 kHz", "rate: 5.12 kHz"))  # half the work
    return place


def finished(step: Any, finding: Finding, status: str = "done") -> None:
    """A take of a step as a run leaves it."""
    folder = step.plan.parent / "take-001"
    begin_take(folder, step.plan.read_text(), "rig: x\n")
    with (folder / "events.jsonl").open("a") as file:
        file.write(
            json.dumps({"kind": "end", "t": 1.0, "status": status, "reason": None if status == "done" else "cut"})
            + "\n"
        )
    Take(folder).keep(finding)


def of(value: float | None, verdict: str = "inside", uncertainty: float | None = 0.3, **more: Any) -> Finding:
    reading = Reading("dwell_1_frequency", "Frequency", value, "Hz", uncertainty, 2.0, verdict=verdict, **more)
    return Finding("sine-sweep", (reading,))


def test_steps_are_prepared_each_with_its_own(demo_lab: Any) -> None:
    place = written(demo_lab)
    plan = load_yaml(place)
    plan["steps"][1]["guards"] = [{"watch": "acceleration", "channel": "tray", "limit": "90 m/s^2"}]
    plan["steps"][1]["limits"] = {"in_tolerance": {"low": "90 %"}}
    place.write_text(dump_yaml(plan))
    made = steps_of(place, None)
    assert [p.method.name for p in made] == ["sine-sweep", "random-vibration", "sine-sweep"]
    assert [len(p.plan.guards) for p in made] == [0, 1, 0] and made[1].settings.limits == {
        "in_tolerance": {"low": "90 %"}
    }
    assert (
        made[1].plan.title == "Search, endure, search · 2 of 3, Endurance"
        and made[0].plan.walk_round == made[2].plan.walk_round
    )
    with pytest.raises(BadInput, match="as a series"):
        prepare(place)
    plan["steps"][1]["settings"]["profile"] = {**RANDOM, "points": RANDOM["points"][:1]}
    place.write_text(dump_yaml(plan))
    with pytest.raises(BadInput, match="step 2"):
        steps_of(place, None)
    place.write_text(dump_yaml({**plan, "steps": [plan["steps"][0], {"method": "output-gain", "name": "g"}]}))
    with pytest.raises(BadInput, match="sheet of their own"):
        steps_of(place, None)


def test_the_next_step_waits_for_what_it_was_told_to(demo_lab: Any) -> None:
    place = written(demo_lab)
    plan = load_yaml(place)
    plan["steps"][0]["go_on"], plan["steps"][1]["go_on"] = "inside", "always"
    place.write_text(dump_yaml(plan))
    series = begin_series(place)
    a, b, c = series.steps
    assert series.next is a and series.held_back(a) == "" and "not run yet" in series.held_back(b)
    finished(a, of(118.0, "open"))
    assert "is open; the plan goes on only where it is inside" in series_in(series.folder).held_back(b)
    Take(a.plan.parent / "take-001").keep(of(118.0))
    now = series_in(series.folder)
    assert now.held_back(b) == "" and now.next.number == 2
    finished(b, Finding("random-vibration", ()), "cut")
    now = series_in(series.folder)
    assert now.next.number == 2 and now.held_back(c) == ""  # always: also after a cut
    with pytest.raises(BadInput, match="never written over"):
        begin_series(place, series.folder)


def test_what_moved_and_what_is_missing(demo_lab: Any) -> None:
    series = begin_series(written(demo_lab))
    a, b, c = series.steps
    finished(a, of(118.0))
    made = finding_of(series_in(series.folder))
    assert not made.complete and made.verdict == "open" and "step 3, Search again: not run" in made.missing
    assert any("no two steps" in m for m in made.missing)
    finished(b, Finding("random-vibration", (Reading("x", "X", 1.0, "", verdict="inside"),)))
    finished(c, of(116.4, uncertainty=0.4))
    made = finding_of(series_in(series.folder))
    gone = made.reading("moved_dwell_1_frequency")
    assert gone.value == pytest.approx(-1.6) and gone.uncertainty == pytest.approx(0.5) and gone.verdict == "open"
    assert made.complete and made.verdict == "open"  # -1.6 ± 0.5 Hz against -2 Hz: can't be told
    Take(c.plan.parent / "take-001").keep(of(115.0))
    assert finding_of(series_in(series.folder)).verdict == "outside"
    Take(c.plan.parent / "take-001").keep(of(117.9))
    assert finding_of(series_in(series.folder)).verdict == "inside"
    events = c.plan.parent / "take-001" / "events.jsonl"
    before = events.read_text()
    events.write_text(before + json.dumps({"kind": "doubtful", "t": 0.0, "why": "its sensor was found broken"}) + "\n")
    made = finding_of(series_in(series.folder))
    assert made.verdict == "open" and "sensor was found broken" in made.missing[0]
    events.write_text(before)
    # A step that is outside makes all of it so, whatever moved.
    Take(b.plan.parent / "take-001").keep(Finding("random-vibration", (Reading("x", "X", 1.0, "", verdict="outside"),)))
    assert finding_of(series_in(series.folder)).verdict == "outside"


def test_readings_that_can_not_be_compared() -> None:
    (row,) = moved(of(118.0), of(117.0, valid=False, reason="the record ends"))
    assert not row.valid and "record ends" in row.reason
    assert moved(of(None), of(117.0)) == [] and moved(of(118.0), Finding("m", ())) == []
    (row,) = moved(of(118.0, uncertainty=None), of(117.0))
    assert row.uncertainty is None and row.value == -1.0


def test_three_steps_run_at_the_command_line_and_are_compared(demo_lab: Any, tmp_path: Path) -> None:
    place, out = written(demo_lab), tmp_path / "found.json"
    folder = tmp_path / "series"
    done = app(
        ["run", str(place), "--take", str(folder), "--signed-by", "K.B.", "--json", str(out)], standalone_mode=False
    )
    made = json.loads(out.read_text())
    assert made["method"] == "series" and made["complete"], made["missing"]
    by = {r["key"]: r for r in made["readings"]}
    assert (
        by["moved_dwell_1_frequency"]["verdict"] in ("inside", "open")
        and abs(by["moved_dwell_1_frequency"]["value"]) < 2
    )
    assert len(list(folder.glob("*/take-001/raw.h5"))) == 3 and (folder / lab_series.FINDING).exists()
    assert done in (0, 5)
    with pytest.raises(BadInput, match="exists already"):
        app(["run", str(place), "--take", str(folder), "--signed-by", "K.B."], standalone_mode=False)


def test_plans_are_joined_in_the_window_and_run_step_by_step(window: Any, demo_lab: Any) -> None:
    rig = demo_lab.folder / "rigs" / "shaker.rig.yaml"
    names = []
    for name in ("search", "endure", "again"):
        method = "random-vibration" if name == "endure" else "sine-sweep"
        begin_plan(method, rig, "Tray", demo_lab.jobs / "0412" / "tray" / name / f"{name}.plan.yaml", lab=demo_lab)
        names.append(f"Tray · {name.capitalize()}")
    window.go("Bench")
    bench = window.bench
    QTest.mouseClick(bench.docket.join, Qt.MouseButton.LeftButton)
    sheet = QApplication.activeModalWidget()
    sheet.fields.boxes["title"].setText("All of it")
    sheet.done_with()
    assert "two plans" in sheet.wrong.text()
    for i, name in enumerate(names, 1):
        sheet.fields.boxes[f"step{i}"].setCurrentText(name)
    sheet.fields.boxes["compare"].setPlainText("dwell_1_frequency: 2 Hz")
    sheet.done_with()
    until(lambda: bench.series.isVisible() and bench.state == "walk-round" and not bench.aside.open)
    assert bench.series.title.text() == "Step 1 of 3" and bench.plan_file.name == "step.plan.yaml"
    assert bench.prepared.method.name == "sine-sweep"
    series = series_in(bench.plan_file.parent.parent)
    finished(series.steps[0], of(118.0))
    bench.show_series()
    assert bench.series.next.isEnabled()
    bench.series.next.click()
    until(lambda: bench.series.title.text() == "Step 2 of 3" and bench.state == "walk-round" and not bench.aside.open)
    assert bench.prepared.method.name == "random-vibration"
    finished(series.steps[1], Finding("random-vibration", ()))
    finished(series.steps[2], of(117.0))
    bench.show_series()
    assert "Frequency −1" in bench.series.told.text() and not bench.series.next.isVisible()
    # Opened again, the plan goes on with a new series: this one is at its end.
    bench.open_plan(series.folder.parent / "all-of-it.plan.yaml")
    until(lambda: bench.plan_file.parent.parent.name == "series-2" and not bench.aside.open)


def test_joining_says_what_it_can_not_join(demo_lab: Any, tmp_path: Path) -> None:
    place = written(demo_lab)
    one = demo_lab.jobs / "0412" / "battery-tray" / "sine" / "sine.plan.yaml"
    with pytest.raises(BadInput, match="several steps itself"):
        joined_plan("A", "B", [(one, "done"), (place, "done")], tmp_path / "x.plan.yaml", {})
    with pytest.raises(BadInput, match="two plans"):
        joined_plan("A", "B", [(one, "done")], tmp_path / "x.plan.yaml", {})
