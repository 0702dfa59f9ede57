"""A crosshead moved by hand: only while the key is held, slowly, and not into anything."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from tests.test_desktop import until

from lucid_anvil.contracts.method import LEAD, Got
from lucid_anvil.core.errors import BadInput
from lucid_anvil.domains.hookup.jog import HELD, STOPS
from lucid_anvil.domains.hookup.window.hand_strip import JogKeys
from lucid_anvil.engine.newplan import begin_plan
from lucid_anvil.engine.preparing import Prepared, prepare
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.editing import put
from lucid_anvil.protocol.orders import order_of
from lucid_anvil.rig.standins.choosing import bench_of


@pytest.fixture
def by_hand(tmp_path: Path) -> Prepared:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", True)
    plan = begin_plan("by-hand", lab.folder / "rigs" / "pulser.rig.yaml", "Rig", lab.jobs / "a" / "a.plan.yaml", lab=lab)
    put(plan, ("longest",), "30 s")
    return prepare(plan)


def moved(p: Prepared, held: Any, seconds: float = 6.0) -> dict[str, np.ndarray]:
    """The run on its stand-in, a key held as `held(t)` says: a speed in m/s, None where none is. Drive, and where the
    crosshead and the force were, a value a block."""
    bench, span = bench_of(p.rig), p.facts.block / p.facts.rate
    bench.command("begin", 0.0)
    run = p.method.perform(p.settings, p.facts)
    want, drives = next(run), [np.zeros(p.facts.block)] * LEAD
    made: dict[str, list[Any]] = {"drive": [], "length": [], "force": [], "t": [], "live": [], "mark": []}
    names = [c.role for c in p.rig.channels]
    for k in range(round(seconds / span)):
        drives.append(want.drive)
        block = bench.play(drives.pop(0))
        heard = dict(zip(names, block.samples, strict=False))
        speed = held(k * span)
        orders = () if speed is None else (order_of("jog", {"speed": speed}),)
        made["drive"].append(want.drive)
        made["mark"] += want.marks
        made["length"].append(float(heard["displacement"][-1]) / p.facts.sensitivity["displacement"])
        made["force"].append(float(np.mean(heard["force"])) / p.facts.sensitivity["force"])
        made["t"].append(k * span)
        want = run.send(Got(k, k * span, heard, orders=orders))
        made["live"].append((want.live or {}).get("jog"))
    return {k: np.array(v, dtype=object if k in ("live", "mark") else float) for k, v in made.items()}


def test_it_moves_as_long_as_the_key_is_held_and_no_faster_than_it_may(by_hand: Prepared) -> None:
    made = moved(by_hand, lambda t: 5e-3 if 1.0 <= t < 3.0 else None, 5.0)
    drive = np.concatenate(made["drive"])
    per_volt = by_hand.facts.limits["frame_speed"]
    speed = drive * per_volt
    assert speed.max() == pytest.approx(1e-3) and speed.min() >= 0  # asked for five times as much
    # It begins and ends without a jump, and stands within the time that an order counts and the stop takes.
    assert np.abs(np.diff(speed)).max() < 1e-3 / (0.5 * STOPS * by_hand.facts.rate)
    t = np.arange(speed.size) / by_hand.facts.rate
    assert not speed[t < 1.0].any() and not speed[t > 3.0 + HELD + STOPS + 0.1].any()
    assert made["length"][-1] == pytest.approx(2.2e-3, rel=0.15)
    marks = [m for m in made["mark"] if m["kind"] == "jog"]
    assert len(marks) == 1 and marks[0]["speed"] == pytest.approx(1e-3)


def test_a_lost_window_stops_it(by_hand: Prepared) -> None:
    made = moved(by_hand, lambda t: 1e-3 if t < 1.0 else None, 3.0)
    drive = np.concatenate(made["drive"])
    assert drive.any() and not drive[-round(by_hand.facts.rate) :].any()


def test_it_turns_round_through_rest_and_stops_at_once_when_told(by_hand: Prepared) -> None:
    made = moved(by_hand, lambda t: 1e-3 if t < 1.5 else -1e-3 if t < 2.5 else 0.0, 4.0)
    speed = np.concatenate(made["drive"]) * by_hand.facts.limits["frame_speed"]
    assert speed.max() == pytest.approx(1e-3) and speed.min() == pytest.approx(-1e-3)
    assert np.abs(np.diff(speed)).max() < 1e-3 / (0.5 * STOPS * by_hand.facts.rate)
    t = np.arange(speed.size) / by_hand.facts.rate
    assert not speed[t > 2.5 + STOPS + 0.1].any()


def test_it_goes_no_further_into_what_it_presses_and_comes_back(by_hand: Prepared) -> None:
    # The fender lies there: pressed down on it, it would bear 0.36 kN a millimetre.
    made = moved(by_hand, lambda t: -1e-3 if 0.8 <= t < 3.0 else 1e-3 if 3.5 <= t < 3.8 else None, 5.0)
    load = np.abs(made["force"] - made["force"][:20].mean())
    assert 45 < load.max() < 50 + 0.36e6 * 1e-3 * (STOPS + 0.1)
    shut = [v for v in made["live"] if v is not None and v["shut"]]
    assert shut and {v["shut"] for v in shut} == {-1} and made["live"][-1]["shut"] == 0
    assert load[-1] < 0.8 * load.max()


def test_without_a_crosshead_nothing_moves(tmp_path: Path) -> None:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", True)
    plan = begin_plan("by-hand", lab.folder / "rigs" / "shaker.rig.yaml", "Rig", lab.jobs / "a" / "a.plan.yaml", lab=lab)
    p = prepare(plan)
    run = p.method.perform(p.settings, p.facts)
    want = next(run)
    heard = {c.role: np.zeros(p.facts.block) for c in p.rig.channels}
    for k in range(10):
        want = run.send(Got(k, 0.1 * k, heard, orders=(order_of("jog", {"speed": 1.0}),)))
        assert not want.drive.any() and "jog" not in (want.live or {})
    with pytest.raises(BadInput, match="jog: speed"):
        order_of("jog", {"speed": "fast"})


def test_keys_that_are_let_go(qtbot: Any) -> None:
    keys = JogKeys()
    qtbot.addWidget(keys)
    asked: list[float] = []
    keys.moved.connect(asked.append)
    keys.wake(True)
    keys.show()
    keys.box.setText("30 mm/min")
    QTest.mousePress(keys.down, Qt.MouseButton.LeftButton)
    until(lambda: len(asked) > 3, 5)
    assert set(asked) == {-0.5e-3}
    QTest.mouseRelease(keys.down, Qt.MouseButton.LeftButton)
    count = len(asked)
    assert asked[-1] == 0.0 and not keys.beat.isActive()
    # Hidden, or at the run's end, with the key still held: it stands too.
    for leave in (keys.hide, lambda: keys.wake(False)):
        keys.show()
        keys.wake(True)
        QTest.mousePress(keys.up, Qt.MouseButton.LeftButton)
        assert asked[-1] > 0
        leave()
        assert asked[-1] == 0.0 and not keys.beat.isActive()
        keys.up.setDown(False)
    keys.box.setText("1 m/s")
    keys.show_live({"fastest": 1e-3, "shut": -1, "load": -63.0, "speed": 0.0, "crush": 50.0})
    assert keys.speed == 1e-3 and keys.told.text() == "63 N: no further down" and len(asked) > count
    keys.box.setText("fast")
    assert keys.speed == 0.0
