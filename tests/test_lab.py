"""Ledger, plans, takes, the demo lab."""

from __future__ import annotations

import datetime
import json
from pathlib import Path
from typing import Any

import pytest
import sqlalchemy as sa
from tests.conftest import TODAY, short_plan

from lucid_anvil.contracts.finding import Curve, Finding, Reading
from lucid_anvil.contracts.settings import check
from lucid_anvil.core.errors import BadInput
from lucid_anvil.lab import planning
from lucid_anvil.lab.ledger import Calibration, Entry, Ledger, Sensor
from lucid_anvil.lab.place import lab_of, open_lab
from lucid_anvil.lab.plans import Plan, load_plan, rig_path
from lucid_anvil.lab.takes import Take, begin_take, list_takes, next_take_folder, open_take
from lucid_anvil.lab.textfiles import dump_yaml, parse_yaml

D = datetime.date


@pytest.fixture
def ledger(tmp_path: Path) -> Ledger:
    return Ledger(f"sqlite:///{tmp_path / 'l.sqlite'}")


def test_sensors_and_calibrations_are_kept_in_order(ledger: Ledger) -> None:
    ledger.add(Sensor("X-1", "accelerometer", nominal=10.0))
    ledger.append("X-1", Calibration(D(2025, 5, 1), 9.9, due=D(2026, 5, 1)))
    ledger.append("X-1", Calibration(D(2024, 5, 1), 10.0))
    entry = ledger.entry("X-1")
    assert [c.date.year for c in entry.history] == [2024, 2025]
    assert entry.last is not None
    assert entry.last.sensitivity == 9.9
    assert entry.drift == pytest.approx(-1.0)
    assert entry.yearly_drift() == pytest.approx(1.0, rel=0.01)
    assert entry.days_left(D(2026, 5, 3)) == -2


def test_a_calibration_can_be_neither_changed_nor_taken_away(ledger: Ledger) -> None:
    ledger.add(Sensor("X-1", "accelerometer"))
    ledger.append("X-1", Calibration(D(2025, 5, 1), 9.9))
    for order in ("update calibration set sensitivity = 1", "delete from calibration"):
        with pytest.raises(sa.exc.DatabaseError, match="never edited"), ledger.engine.begin() as link:
            link.execute(sa.text(order))
    assert ledger.entry("X-1").history[0].sensitivity == 9.9


def test_what_is_not_there_is_said(ledger: Ledger, tmp_path: Path) -> None:
    ledger.add(Sensor("GA-11", "accelerometer"))
    with pytest.raises(BadInput, match="did you mean 'GA-11'"):
        ledger.entry("GA-12")
    with pytest.raises(BadInput, match="stands once"):
        ledger.add(Sensor("GA-11", "accelerometer"))
    with pytest.raises(BadInput, match="above zero"):
        ledger.append("GA-11", Calibration(D(2025, 1, 1), 0.0))
    with pytest.raises(BadInput, match="no sensor"):
        ledger.append("no", Calibration(D(2025, 1, 1), 1.0))
    (tmp_path / "bad.sqlite").write_bytes(b"this is no database at all, but long enough to be read as one")
    with pytest.raises(BadInput, match="not a ledger"):
        Ledger(f"sqlite:///{tmp_path / 'bad.sqlite'}")


def test_due_soonest_first_and_what_rests_on_a_sensor(ledger: Ledger) -> None:
    for serial, due in (("A", D(2026, 3, 1)), ("B", D(2026, 1, 1)), ("C", D(2027, 1, 1)), ("D", None)):
        ledger.add(Sensor(serial, "accelerometer"))
        ledger.append(serial, Calibration(D(2025, 1, 1), 1.0, due=due))
    assert [e.sensor.serial for e in ledger.due(D(2026, 2, 1), 60)] == ["B", "A"]
    ledger.rests_on("takes/1", "A", "reference", "C-1")
    ledger.rests_on("takes/2", "A", "reference", "C-1")
    ledger.rests_on("takes/2", "unknown", "unit", None)
    assert [t["take"] for t in ledger.traces("A")] == ["takes/2", "takes/1"]
    assert ledger.traces("B") == []


def test_a_ledger_is_opened_again_and_migrated_once(tmp_path: Path) -> None:
    url = f"sqlite:///{tmp_path / 'l.sqlite'}"
    first = Ledger(url)
    first.add(Sensor("A", "accelerometer"))
    first.close()
    assert [e.sensor.serial for e in Ledger(url).entries()] == ["A"]


def test_the_demo_lab_has_overdue_sensors_and_drift(demo_lab: Any) -> None:
    ledger = demo_lab.ledger()
    due = [e.sensor.serial for e in ledger.due(TODAY)]
    assert due[:3] == ["GP-08", "GA-11", "GC-04"]
    reference = ledger.entry("GA-02")
    assert reference.last is not None
    assert reference.last.points is not None
    assert (reference.last.points[0][0], reference.last.points[-1][0]) == (5.0, 10000.0)
    assert all(len(e.history) >= 3 for e in ledger.entries())


def test_a_plan_from_the_ledger_is_whole(demo_lab: Any) -> None:
    plan = check(Plan, planning.calibration_plan(demo_lab, "GA-11", today=TODAY), "plan")
    settings = plan.step.settings
    assert plan.sensors["reference"].serial == "GA-02"
    assert plan.sensors["unit"].due is not None
    assert len(settings["reference_response"]) == len(settings["reference_uncertainty"]) == 34
    assert settings["limits"]["nominal_deviation"]["high"] == "5 %"
    assert [c.key for c in plan.walk_round][0] == "reference_date"
    with pytest.raises(BadInput, match="microphone"):
        planning.calibration_plan(demo_lab, "GM-03", today=TODAY)


def test_plan_files_with_mistakes(tmp_path: Path) -> None:
    def load(text: str) -> Any:
        (tmp_path / "p.plan.yaml").write_text(text)
        return load_plan(tmp_path / "p.plan.yaml")

    good = "lucid-anvil-plan: 1\ntitle: t\nsteps: [{method: m}]\n"
    plan = load(good)
    with pytest.raises(BadInput, match="names no rig"):
        rig_path(plan, tmp_path / "p", None)
    with pytest.raises(BadInput, match="is not there"):
        rig_path(load(good + "rig: no.yaml\n"), tmp_path / "p", None)
    for text, words in (
        (good + "titel: x\n", "did you mean 'title'"),
        ("lucid-anvil-plan: 2\ntitle: t\nsteps: [{method: m}]\n", "lucid-anvil-plan"),
        ("lucid-anvil-plan: 1\ntitle: t\nsteps: []\n", "steps"),
        ("- a\n", "keys and values"),
        ("a: b: c\n", "line 1"),
    ):
        with pytest.raises(BadInput, match=words):
            load(text)


def test_yaml_flags_are_alike() -> None:
    for text in ("on", "true", "yes"):
        plan = check(Plan, parse_yaml(f"title: t\nsteps: [{{method: m}}]\nwants_due_date: {text}\n", "x"), "x")
        assert plan.wants_due_date
    assert parse_yaml(dump_yaml({"a": [1, {"b": "ü"}]}), "x") == {"a": [1, {"b": "ü"}]}


def finding(value: float | None = 9.87, verdict: str = "inside") -> Finding:
    x = (10.0, 160.0)
    return Finding(
        "accelerometer-comparison",
        (Reading("sensitivity", "S", value, "mV/(m/s²)", 0.05, 2.0, verdict=verdict, valid=value is not None),),
        (Curve("sensitivity", "S", x, (9.8, 9.87), "Hz", "mV/(m/s²)", (0.05, 0.05)),),
        detail={"reference_frequency": 160.0},
    )  # fmt: skip


def test_takes_are_numbered_kept_and_never_written_over(tmp_path: Path) -> None:
    assert next_take_folder(tmp_path).name == "take-001"
    take = begin_take(tmp_path / "take-001", "title: t\nsteps: [{method: m}]\n", "name: r\n")
    assert next_take_folder(tmp_path).name == "take-002"
    with pytest.raises(BadInput, match="never written over"):
        begin_take(tmp_path / "take-001", "", "")
    assert take.status() == "interrupted"
    first, second = take.keep(finding()), take.keep(finding(9.9))
    assert first != second
    assert take.counted() == second
    take.choose(first)
    assert take.counted() == first
    held = take.finding()
    assert held is not None
    assert held.reading("sensitivity").value == 9.87
    with pytest.raises(BadInput, match="not a take"):
        open_take(tmp_path)


def test_events_cut_short_by_a_kill_are_left_out(tmp_path: Path) -> None:
    take = begin_take(tmp_path / "take-001", "title: t\nsteps: [{method: m}]\n", "")
    (take.folder / "events.jsonl").write_text('{"kind": "begin"}\n{"kind": "to')
    (take.folder / "guards.jsonl").write_text(json.dumps({"kind": "trip", "label": "the run is gone"}) + "\n")
    assert [e["kind"] for e in take.events()] == ["begin"]
    assert take.reason() == "the run is gone"
    assert [t.folder for t in list_takes(tmp_path)] == [take.folder]


def test_accepting_needs_a_valid_sensitivity(tmp_path: Path) -> None:
    plan = "title: t\nsteps: [{method: m}]\nsensors: {unit: {serial: X}}\nas_state: as left\n"
    take = begin_take(tmp_path / "take-001", plan, "")
    words = {"date": TODAY, "certificate": "C-1", "by": "K.B.", "lab": "L", "due": None}
    serial, made = planning.calibration_of(take, finding(), **words)
    assert serial == "X"
    assert made.as_state == "as left"
    assert made.uncertainty == pytest.approx(100 * 0.05 / 9.87)
    assert made.points == [[10.0, 9.8, pytest.approx(0.5102, rel=1e-3)], [160.0, 9.87, pytest.approx(0.5066, rel=1e-3)]]
    with pytest.raises(BadInput, match="no valid sensitivity"):
        planning.calibration_of(take, finding(None), **words)


def test_months_and_certificate_numbers(demo_lab: Any) -> None:
    assert planning.add_months(D(2025, 1, 31), 1) == D(2025, 2, 28)
    assert planning.add_months(D(2025, 12, 5), 14) == D(2027, 2, 5)
    one = planning.next_certificate(demo_lab, TODAY)
    ledger = demo_lab.ledger()
    ledger.append("GA-11", Calibration(TODAY, 9.9, certificate=one))
    two = planning.next_certificate(demo_lab, TODAY)
    assert int(two[-4:]) == int(one[-4:]) + 1
    assert one.startswith(f"GTH-{TODAY.year}-")


def test_a_lab_is_found_from_inside(demo_lab: Any, tmp_path: Path) -> None:
    assert lab_of(short_plan(demo_lab).parent).folder == demo_lab.folder  # type: ignore[union-attr]
    assert lab_of(tmp_path) is None
    with pytest.raises(BadInput, match="no lab here"):
        open_lab(tmp_path)


def test_an_entry_without_calibration() -> None:
    entry = Entry(Sensor("A", "accelerometer"), ())
    assert (entry.last, entry.due, entry.drift, entry.days_left(TODAY)) == (None, None, None, None)
    assert Take(Path("/nowhere/take-001")).name == "take-001"
