"""What the Bench shows of pulses: two tables of each cycle, the channel near its limit marked."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from tests.test_pulses_run import pulsed, rig  # noqa: F401  (a fixture)

from lucid_anvil.desktop.parts import theme
from lucid_anvil.domains.frame.cycle_seen import computed, measured
from lucid_anvil.domains.frame.window.pulse_bench import CRITICAL, PulseStage, used_of
from lucid_anvil.protocol.messages import Board, Room

ROW = {"force_max": 2200.0, "force_min": 200.0, "force_swing": 2000.0, "displacement_max": 7e-3, "energy": 1.1,
       "displacement_min": 1e-3, "displacement_swing": 6e-3, "angle": 6.8, "ratio": 3.3e5}  # fmt: skip


def room(key: str, limit: float) -> Room:
    return Room(key, key, 0.5, 0.0, limit, "N", "cut")


def test_what_follows_from_a_cycle_says_by_which_formula() -> None:
    by = {name: (formula, values, unit) for name, formula, values, unit in computed(ROW, 2500e-6, 0.04)}
    assert by["Stress"] == ("force / area", pytest.approx([0.88, 0.08, 0.8]), "MPa")
    assert by["Strain"][1] == pytest.approx([17.5, 2.5, 15.0]) and by["Strain"][2] == "%"
    assert by["Modulus"][1][2] == pytest.approx(0.8 / 0.15) and by["Energy"][1] == [None, None, 1.1]
    assert all(formula for formula, _, _ in by.values())
    assert {n for n, *_ in computed(ROW, None, None)} == {"Stiffness", "Phase", "Energy"}
    force, way = measured(ROW, ("force", "displacement"))
    assert force[1] == pytest.approx([2.2, 0.2, 2.0]) and (force[2], way[2]) == ("kN", "mm")


def test_a_channel_near_its_limit_is_marked_and_any_table_is_copied(qapp: Any) -> None:
    stage = PulseStage()
    board = Board(state="running")
    board.live = {"measured": [list(r) for r in measured(ROW, ("force", "displacement"))],
                  "computed": [list(r) for r in computed(ROW, 2500e-6, 0.04)]}  # fmt: skip
    board.rooms = [room("force", 2400.0), room("length_displacement", 40e-3), room("overload", 0.0)]
    stage.show_board(board)
    assert stage.tables.isVisibleTo(stage)
    used = {n: u for n, _, _, _, u in stage.measured.rows}
    assert used["Force"] == pytest.approx(2200 / 2400) and used["Force"] >= CRITICAL > used["Displacement"]
    head, force, *_ = stage.measured.as_table()
    assert list(head)[:1] == ["As measured"] and list(force)[2:5] == pytest.approx([2.2, 0.2, 2.0])
    assert [r[1] for r in stage.computed.as_table()[1:]][0] == "force / area"
    stage.resize(760, 460)
    picture = stage.grab().toImage()
    assert any(picture.pixelColor(x, y) == theme.color("clay") for x in range(0, 760, 2) for y in range(300, 460, 2))
    assert used_of([], "force", [1.0, 2.0, 1.0], 1.0) is None


def test_a_run_tells_its_tables(rig: Path) -> None:  # noqa: F811
    from lucid_anvil.domains.frame import cyclic_run

    told: list[Any] = []
    kept = cyclic_run.Pulses.live

    def live(self: Any, held: Any) -> Any:
        told.append(kept(self, held))
        return told[-1]

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(cyclic_run.Pulses, "live", live)
        _, _, found = pulsed(rig, {"frequency": "1 Hz", "cycles": 12}, specimen={"area": "2500 mm^2"},
                             columns=[{"name": "Left", "formula": "stiffness / first(stiffness)", "unit": "%"}])  # fmt: skip
    last = told[-1]
    by = {row[0]: row for row in last["computed"]}
    assert by["Energy"][2][2] == pytest.approx(found.curve("energy").y[-1], rel=0.03)
    assert by["Phase"][2][2] == pytest.approx(6.8, abs=0.3)  # the stand-in's loss is 0.12 at 1 Hz
    assert by["Left"][1] == "stiffness / first(stiffness)" and 50 < by["Left"][2][2] <= 100
    assert last["measured"][0][0] == "force" and last["measured"][0][1][0] == pytest.approx(2.2, rel=0.03)
