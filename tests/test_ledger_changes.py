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
from lucid_anvil.lab.ledger import Ledger, Sensor
from lucid_anvil.lab.planning import calibration_plan, reference_settings
from lucid_anvil.lab.shaker_planning import sensors_of
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
