"""Sensors changed and retired: what stood there is kept, and nothing new rests on one that is out of use."""

from __future__ import annotations

import datetime
from pathlib import Path
from typing import Any

import pytest
import sqlalchemy as sa

from lucid_anvil.cli import app
from lucid_anvil.core.errors import BadInput
from lucid_anvil.lab.entering import changes_from
from lucid_anvil.lab.ledger import Calibration, Ledger, Sensor
from lucid_anvil.lab.planning import calibration_plan, reference_settings, sensors_of
from lucid_anvil.rig.editing import plug

TODAY = datetime.date.today()


def test_a_change_keeps_who_when_and_what_was(demo_lab: Any) -> None:
    ledger = demo_lab.ledger()
    before = ledger.entry("GA-11")
    now = ledger.change("GA-11", "K.B.", "label was wrong", model="A2", nominal=9.9)
    assert (now.model, now.nominal) == ("A2", 9.9) and ledger.entry("GA-11").history == before.history
    (told,) = ledger.changes("GA-11")
    assert told.by == "K.B." and told.why == "label was wrong" and (datetime.datetime.now() - told.at).seconds < 60
    assert told.was == {"model": before.sensor.model, "nominal": before.sensor.nominal}
    ledger.change("GA-11", "K.B.", model="A2")  # nothing new: nothing noted
    assert len(ledger.changes("GA-11")) == 1
    for bad, why in (({"id": 7}, "no 'id'"), ({"colour": "red"}, "no 'colour'")):
        with pytest.raises(BadInput, match=why):
            ledger.change("GA-11", "K.B.", **bad)
    with pytest.raises(BadInput, match="initials"):
        ledger.change("GA-11", " ", model="A3")
    with pytest.raises(BadInput, match="did you mean|see `ledger list`"):
        ledger.change("GA-99", "K.B.", model="A3")


def test_nothing_new_rests_on_a_retired_sensor(demo_lab: Any) -> None:
    ledger = demo_lab.ledger()
    with pytest.raises(BadInput, match="say why"):
        ledger.retire("GA-02", "K.B.", " ", TODAY)
    traces = ledger.traces("GA-02")
    for serial in ("GA-02", "GA-11", "GA-07"):
        ledger.retire(serial, "K.B.", "dropped", TODAY)
    assert ledger.traces("GA-02") == traces
    with pytest.raises(BadInput, match="retired"):
        reference_settings(ledger.entry("GA-02"), TODAY)
    with pytest.raises(BadInput, match="GA-11: it is retired"):
        calibration_plan(demo_lab, "GA-11", today=TODAY)
    rig = demo_lab.folder / "rigs" / "shaker.rig.yaml"
    with pytest.raises(BadInput, match="retired"):
        plug(rig, 1, ledger.entry("GA-11").sensor)
    # A plan that is made of it finds it out of date on that day, whatever its certificate says.
    assert sensors_of(demo_lab, rig)["control"]["due"] == TODAY.isoformat()
    assert [e.sensor.serial for e in ledger.entries() if e.sensor.retired] == ["GA-02", "GA-07", "GA-11"]


def test_a_ledger_of_the_version_before_opens_and_reads_the_same(tmp_path: Path) -> None:
    place = tmp_path / "old.sqlite"
    ledger = Ledger(f"sqlite:///{place}")
    ledger.add(Sensor("S-1", "accelerometer", nominal=10.0))
    ledger.close()
    engine = sa.create_engine(f"sqlite:///{place}")
    with engine.begin() as link:  # as the version before left it
        link.execute(sa.text("drop table sensor_change"))
        link.execute(sa.text("alter table sensor drop column note"))
        link.execute(sa.text("alter table sensor drop column retired"))
        link.execute(sa.text("update alembic_version set version_num = '0002'"))
    engine.dispose()
    ledger = Ledger(f"sqlite:///{place}")
    assert ledger.entry("S-1").sensor == Sensor("S-1", "accelerometer", nominal=10.0)
    ledger.retire("S-1", "K.B.", "lost", TODAY)
    assert ledger.entry("S-1").sensor.retired == TODAY


def test_what_is_typed_of_a_sensor() -> None:
    sensor = Sensor("S-1", "accelerometer")
    made = changes_from(sensor, {"nominal": "98.1 mV/g", "interval": "", "tolerance": "5 %", "note": " cable short "})
    assert (made["interval_months"], made["tolerance"], made["note"]) == (None, 5.0, "cable short")
    assert (made["nominal"], made["unit"]) == (pytest.approx(98.1 / 9.80665), "mV/(m/s²)")
    for held, why in (
        ({"nominal": "10"}, "no unit"), ({"nominal": "-1 mV/g"}, "above zero"), ({"interval": "0"}, "months"),
        ({"use": "spare"}, "working or reference"), ({"retired": "soon"}, "no date"), ({"colour": "red"}, "no 'colour'"),
    ):  # fmt: skip
        with pytest.raises(BadInput, match=why):
            changes_from(sensor, held)


def test_at_the_command_line(tmp_path: Path, capsys: Any) -> None:
    lab = tmp_path / "north-quay"
    assert app(["lab", "new", str(lab), "--initials", "K.B."], standalone_mode=False) == 0
    here = ["--lab", str(lab)]
    app(["ledger", "add", "S-1", "--nominal", "10 mV/(m/s²)", *here], standalone_mode=False)
    app(["ledger", "change", "S-1", "model=A2", "tolerance=5 %", "--by", "K.B.", *here], standalone_mode=False)
    app(["ledger", "retire", "S-1", "--why", "lost", "--by", "K.B.", *here], standalone_mode=False)
    held = Ledger(f"sqlite:///{lab / 'ledger.sqlite'}").entry("S-1").sensor
    assert (held.model, held.tolerance, held.retired) == ("A2", 5.0, TODAY)
    with pytest.raises(BadInput, match="KEY=VALUE"):
        app(["ledger", "change", "S-1", "model", "--by", "K.B.", *here], standalone_mode=False)
    with pytest.raises(BadInput, match="not empty"):
        app(["lab", "new", str(lab)], standalone_mode=False)


def fresh(tmp_path: Path) -> Ledger:
    ledger = Ledger(f"sqlite:///{tmp_path}/ledger.sqlite")
    ledger.add(Sensor("A-1", "accelerometer"))
    ledger.add(Sensor("B-2", "accelerometer"))
    return ledger


def test_what_rests_on_a_sensor_is_noted_once_for_each_role(tmp_path: Path) -> None:
    ledger = fresh(tmp_path)
    assert ledger.rests_on("jobs/t1", "A-1", "control", "C-7") and not ledger.rests_on(
        "jobs/t1", "A-1", "control", "C-7"
    )
    assert ledger.rests_on("jobs/t1", "A-1", "tray", None) and ledger.rests_on("jobs/t2", "A-1", "control", "C-7")
    assert ledger.rests_on("jobs/t1", "B-2", "control", "C-8") and not ledger.rests_on(
        "jobs/t1", "nobody", "control", ""
    )
    rows = ledger.traces("A-1")
    assert sorted((r["take"], r["role"], r["certificate"]) for r in rows) == [
        ("jobs/t1", "control", "C-7"), ("jobs/t1", "tray", ""), ("jobs/t2", "control", "C-7"),
    ]  # fmt: skip
    assert [r["certificate"] for r in ledger.traces("B-2")] == ["C-8"]
    with pytest.raises(BadInput, match="no sensor 'nobody'"):
        ledger.traces("nobody")
    assert set(ledger.all_traces()) == {"A-1", "B-2"} and set(ledger.all_traces("B-2")) == {"B-2"}


def test_numbers_follow_those_of_their_own_year(tmp_path: Path) -> None:
    ledger = fresh(tmp_path)
    assert ledger.next_number("L-2026-") == "L-2026-0001"
    for number in ("L-2025-0412", "L-2026-0007", "L-2026-draft", "9999"):
        ledger.append("A-1", Calibration(TODAY, 10.0, certificate=number))
    assert ledger.next_number("L-2026-") == "L-2026-0008"
    assert ledger.accept("B-2", Calibration(TODAY, 10.0), "L-2026-") == "L-2026-0008"
    assert ledger.next_number("L-2026-") == "L-2026-0009"


def test_order_drift_and_due_at_their_edges(tmp_path: Path) -> None:
    ledger = fresh(tmp_path)
    day = datetime.date(2020, 1, 1)
    assert ledger.entry("A-1").yearly_drift() == 0.0
    for days, value in ((0, 10.0), (30, 10.01), (30, 10.02), (30 + 365, 10.02 * 1.001)):
        date = day + datetime.timedelta(days=days)
        ledger.append("A-1", Calibration(date, value, due=date + datetime.timedelta(days=60)))
    entry = ledger.entry("A-1")
    assert [c.sensitivity for c in entry.history[:3]] == [10.0, 10.01, 10.02]  # of one day as they were entered
    assert [c.sensitivity for c in ledger.entries()[0].history] == [c.sensitivity for c in entry.history]
    # Two days are no base for a year: steps within 90 days count as if they were that far apart.
    assert entry.yearly_drift() == pytest.approx(0.1 * 365.25 / 90, rel=0.02)
    due = entry.due
    assert [e.sensor.serial for e in ledger.due(due - datetime.timedelta(days=60))] == ["A-1"]
    assert ledger.due(due - datetime.timedelta(days=61)) == []


def test_changes_stand_newest_first_with_days_as_text(tmp_path: Path) -> None:
    ledger = fresh(tmp_path)
    ledger.change("A-1", "K.B.", model="one")
    ledger.change("B-2", "M.O.", model="other")
    ledger.retire("A-1", "M.O.", "lost", datetime.date(2026, 5, 4))
    ledger.change("A-1", "K.B.", retired=None)
    told = ledger.changes("A-1")
    assert [(c.by, c.why) for c in told] == [("K.B.", ""), ("M.O.", "lost"), ("K.B.", "")]
    assert told[0].was == {"retired": "2026-05-04"} and ledger.changes("nobody") == []
    with pytest.raises(BadInput, match="no 'colour' that could be changed: kind, maker, model"):
        ledger.change("A-1", "K.B.", colour="red")
    with pytest.raises(BadInput, match="did you mean 'A-1'"):
        ledger.entry("A-11")
    with pytest.raises(BadInput, match="see `ledger list`"):
        ledger.entry("quite another one")
    with pytest.raises(BadInput, match="^Say who changes it: initials"):
        ledger.change("A-1", "", model="A3")
    with pytest.raises(BadInput, match="^ledger: its address"):
        Ledger("no address")
