"""An actuator taken up and down in steps by itself."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from tests.reading import arrays

from lucid_anvil.core.errors import BadInput
from lucid_anvil.engine.inprocess import Played, play_through
from lucid_anvil.engine.newplan import begin_plan
from lucid_anvil.engine.preparing import prepare
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.editing import put


def stepped(tmp_path: Path, course: dict[str, Any], rig: str = "actuator") -> tuple[Any, Played]:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", True)
    plan = begin_plan(
        "step-hysteresis", lab.folder / "rigs" / f"{rig}.rig.yaml", "Valve", lab.jobs / "a" / "a.plan.yaml", lab=lab
    )
    put(plan, ("course",), course)
    prepared = prepare(plan)
    played = play_through(prepared)
    return prepared.method.evaluate(played.channels, prepared.settings, played.marks), played


@pytest.mark.parametrize("course", [{"from": "0 V", "to": "8 V"}, {"from": "-4 V", "to": "8 V", "loops": 2}])
def test_play_and_bow_of_an_actuator_are_read(tmp_path: Path, course: dict[str, Any]) -> None:
    found, played = stepped(tmp_path, {"steps": 9, "settle": "1.5 s", "read": "0.3 s", "ramp": "8 V/s", **course})
    low, high = (float(course[k].split()[0]) for k in ("from", "to"))
    up = np.linspace(low, high, 9)
    assert len([m for m in played.marks if m["kind"] == "step"]) == 17 + 16 * (course.get("loops", 1) - 1)
    drive = np.asarray(played.channels["drive"].samples())
    assert drive.max() == pytest.approx(high) and np.abs(np.diff(drive)).max() < 0.005 and drive[-1] == 0
    # Play of 1.5 µm lies between both branches but at the ends, where the drive turns.
    x, off = arrays(found.curve("difference"))
    assert x == pytest.approx(up, abs=1e-6) and off[2:-2] == pytest.approx(np.full(5, 1.5e-6), rel=0.02)
    span = found.reading("span").value
    assert found.reading("span").unit == "m" and span == pytest.approx(1e-5 * (high - low) - 0.75e-6, rel=0.03)
    assert found.reading("hysteresis").value == pytest.approx(100 * 1.5e-6 / span, rel=0.02)


def test_a_step_is_read_as_soon_as_it_is_steady(tmp_path: Path) -> None:
    slow, one = stepped(tmp_path / "a", {"from": 0, "to": 4, "steps": 5, "settle": "4 s", "ramp": "8 V/s"})
    quick, two = stepped(
        tmp_path / "b", {"from": 0, "to": 4, "steps": 5, "settle": "4 s", "ramp": "8 V/s", "steady": 1e-6}
    )
    seconds = [p.channels["drive"].duration for p in (one, two)]
    assert seconds[1] < 0.75 * seconds[0]
    assert quick.reading("hysteresis").value == pytest.approx(slow.reading("hysteresis").value, rel=0.05)


@pytest.mark.parametrize(
    ("course", "rig", "why"),
    [({"from": 0, "to": "20 V"}, "actuator", "reaches 10 V"), ({"from": 2, "to": 1}, "actuator", "below to"),
     ({"from": 0, "to": 1}, "shaker", "no acceleration")],
)  # fmt: skip
def test_what_can_not_be_stepped_is_refused(tmp_path: Path, course: dict[str, Any], rig: str, why: str) -> None:
    with pytest.raises(BadInput, match=why):
        stepped(tmp_path, course, rig)
