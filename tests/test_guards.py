"""Guards and ramp, block by block, without any process."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lucid_anvil.contracts.settings import check
from lucid_anvil.core.errors import BadInput
from lucid_anvil.engine.guards import Guards, Seen, StrokeFromAcceleration, check_limits, default_guards, scaled
from lucid_anvil.engine.ramp import Ramp
from lucid_anvil.engine.ring import SLOTS, Ring
from lucid_anvil.engine.study import demo_rig
from lucid_anvil.lab.plans import GuardPart
from lucid_anvil.rig.device import InputBlock, unpack
from lucid_anvil.rig.model import Rig

RATE, N = 51200.0, 2048
ROLES = ("reference", "unit", "transverse", "current")


def make_guards(folder: Path, *parts: dict[str, Any]) -> Guards:
    data = demo_rig()
    data["guards"] = list(parts)
    return Guards(check(Rig, data, "rig"), folder)


def seen(
    index: int = 0, *, level: float = 10.0, frequency: float = 160.0, current: float = 1.0, drive: float = 0.5,
    overload: tuple[bool, ...] = (False,) * 4, bias: float = 11.0, expect: float | None = None,
) -> Seen:  # fmt: skip
    t = (index * N + np.arange(N)) / RATE
    wave = np.sin(2 * np.pi * frequency * t)
    channels = {"reference": level * wave, "unit": level * wave, "transverse": 0 * t, "current": current * wave}
    block = InputBlock(index, np.zeros((5, N)), np.array(overload), np.array([bias, bias, bias, np.nan]), 21, 40, 230)
    return Seen(index * N / RATE, block, channels, drive * wave, expect)


@pytest.mark.parametrize(
    ("part", "quiet", "loud", "channel"),
    [
        ({"watch": "drive", "limit": "1 V"}, {"drive": 0.9}, {"drive": 1.1}, "source"),
        ({"watch": "current", "limit": "2 A"}, {"current": 1.9}, {"current": 2.1}, "current"),
        ({"watch": "acceleration", "limit": "20 m/s^2"}, {"level": 19}, {"level": 21}, "reference"),
        ({"watch": "overload"}, {}, {"overload": (False, True, False, False)}, "unit"),
        ({"watch": "supply"}, {"bias": 11.0}, {"bias": 23.8}, "reference"),
        ({"watch": "supply"}, {"bias": 11.0}, {"bias": 0.1}, "reference"),
        ({"watch": "control_lost", "limit": 0.25}, {"expect": 7.0}, {"expect": 7.0, "level": 0.1}, "reference"),
        ({"watch": "control_lost", "limit": 0.25}, {"expect": 7.0}, {"expect": 0.5}, "reference"),
    ],
)
def test_each_guard_holds_its_peace_and_trips(
    tmp_path: Path, part: dict[str, Any], quiet: dict[str, Any], loud: dict[str, Any], channel: str
) -> None:
    guards = make_guards(tmp_path, part)
    trips, rooms = guards.look(seen(0, **quiet))
    assert trips == []
    assert rooms[0].used < 1
    trips, rooms = guards.look(seen(1, **loud))
    assert len(trips) == 1
    assert trips[0].guard == part["watch"]
    assert trips[0].channel == channel
    assert trips[0].t == pytest.approx(N / RATE)
    assert trips[0].label in trips[0].sentence and channel in trips[0].sentence
    assert ("against a limit" in trips[0].sentence) == bool(trips[0].unit)
    assert guards.look(seen(2, **loud))[0] == []  # told once


def test_a_guard_may_wait_before_it_acts(tmp_path: Path) -> None:
    guards = make_guards(tmp_path, {"watch": "current", "limit": "2 A", "after": "100 ms"})
    counts = [len(guards.look(seen(i, current=3.0))[0]) for i in range(4)]
    assert counts == [0, 0, 1, 0]
    again = make_guards(tmp_path, {"watch": "current", "limit": "2 A", "after": "100 ms"})
    assert [len(again.look(seen(i, current=3.0 if i % 2 else 1.0))[0]) for i in range(6)] == [0] * 6


def test_stroke_is_found_from_the_acceleration(tmp_path: Path) -> None:
    stroke = StrokeFromAcceleration(RATE)
    f, x_peak = 12.0, 0.004
    t = np.arange(int(4 * RATE)) / RATE
    x = stroke(-x_peak * (2 * np.pi * f) ** 2 * np.sin(2 * np.pi * f * t))
    assert np.max(np.abs(x[-51200:])) == pytest.approx(x_peak, rel=0.02)
    guards = make_guards(tmp_path, {"watch": "stroke", "limit": "6 mm"})
    a = x_peak * (2 * np.pi * f) ** 2
    trips = [trip for i in range(100) for trip in guards.look(seen(i, level=a, frequency=f))[0]]
    assert trips[0].guard == "stroke"
    assert trips[0].value > 0.006


def test_disk_space(tmp_path: Path) -> None:
    assert make_guards(tmp_path, {"watch": "disk", "limit": 1e6}).look(seen())[0] == []
    assert make_guards(tmp_path, {"watch": "disk", "limit": 1e18}).look(seen())[0][0].guard == "disk"


def test_a_rig_without_guards_gets_those_of_its_limits() -> None:
    rig = check(Rig, {**demo_rig(), "guards": []}, "rig")
    assert {g.watch for g in default_guards(rig)} >= {
        "drive", "current", "stroke", "overload", "control_lost", "supply", "disk",
    }  # fmt: skip


def test_channels_are_scaled() -> None:
    block = InputBlock(0, np.ones((3, 4)), np.zeros(2, bool), np.zeros(2), 0, 0, 0)
    assert scaled(block, [100.0, 10.0], ["a", "b"])["b"].tolist() == [10.0] * 4


def test_ramp_passes_until_it_begins_and_is_then_monotonic_to_zero() -> None:
    ramp = Ramp(1000.0)
    one = np.ones(100)
    assert np.array_equal(ramp(one, 100), one)
    assert ramp.begin(0.15)
    y = np.concatenate([ramp(one, 100), ramp(one, 100)])
    assert np.all(np.diff(y) <= 0)
    assert y[0] == pytest.approx(1 - 1 / 150)
    assert np.all(y[149:] == 0)
    assert ramp.zero
    assert not np.any(ramp(one, 100))


def test_a_faster_ramp_takes_over_without_a_step() -> None:
    ramp = Ramp(1000.0)
    ramp.begin(1.0)
    before = ramp(np.ones(500), 500)
    assert ramp.begin(0.1)
    after = ramp(np.ones(100), 100)
    assert abs(after[0] - before[-1]) < 0.011
    assert after[-1] == 0
    assert not Ramp.begin(ramp, 1.0)


@given(st.floats(0.5, 400.0), st.integers(64, 4096))
def test_a_missing_block_joins_on_without_a_step(frequency: float, block: int) -> None:
    ramp = Ramp(RATE)
    x = np.sin(2 * np.pi * frequency * np.arange(block) / RATE)
    ramp(x, block)
    ramp.begin(0.02)
    y = ramp(None, block)
    assert abs(y[0] - x[-1]) <= 2 * np.pi * frequency / RATE + 1 / (0.02 * RATE) + 1e-9


def test_ring_between_two_ends() -> None:
    ours = Ring(3, 64)
    theirs = Ring(3, 64, ours.name)
    try:
        for i in range(SLOTS + 3):
            ours.put_input(i, np.full((3, 64), float(i)))
            theirs.put_drive(i, np.full(64, -float(i)))
        assert theirs.input(SLOTS + 2)[1, 5] == SLOTS + 2
        assert ours.drive(SLOTS + 2)[0] == -(SLOTS + 2)
    finally:
        theirs.close()
        ours.close()


def test_blocks_survive_the_wire() -> None:
    block = InputBlock(
        7, np.random.default_rng(1).normal(size=(4, 32)), np.array([True, False, True]),
        np.array([11.0, np.nan, 2.0]), 21.5, 45.0, 229.0,
    )  # fmt: skip
    back = unpack(block.pack(), 3, 32)
    assert back.index == 7
    assert np.array_equal(back.samples, block.samples)
    assert np.array_equal(back.overload, block.overload)
    assert np.array_equal(back.bias, block.bias, equal_nan=True)
    assert (back.temperature, back.humidity, back.supply) == (21.5, 45.0, 229.0)


def test_a_guard_that_waits_is_not_shown_as_tripped(tmp_path: Path) -> None:
    guards = make_guards(tmp_path, {"watch": "acceleration", "limit": "20 m/s^2", "after": "0.1 s"})
    shown = []
    for i in range(4):
        trips, rooms = guards.look(seen(i, level=30.0))
        shown.append((len(trips), rooms[0].used))
    assert [n for n, _ in shown] == [0, 0, 1, 0]
    assert [u for _, u in shown] == pytest.approx([0.99, 0.99, 1.5, 1.5], abs=0.01)


def test_a_plans_guards_come_on_top_of_the_rigs(tmp_path: Path) -> None:
    data = demo_rig()
    data["guards"] = [{"watch": "drive", "limit": "1 V"}]
    more = [{"watch": "acceleration", "channel": "unit", "limit": "5 m/s^2", "label": "Unit too lively"}]
    guards = Guards(check(Rig, data, "rig"), tmp_path, {"guards": more})
    trips, rooms = guards.look(seen(0, level=6.0, drive=0.2))
    assert [r.key for r in rooms] == ["drive", "acceleration_unit"]
    assert [t.label for t in trips] == ["Unit too lively"] and trips[0].channel == "unit"


@pytest.mark.parametrize(
    ("part", "why"),
    [
        ({"watch": "force", "limit": "45 mm"}, "can't be turned into 'N'"),
        ({"watch": "current", "limit": "-3 A"}, "never be reached"), ({"watch": "drive", "limit": "0 V"}, "never be"),
        ({"watch": "drive"}, "has no limit"), ({"watch": "acceleration", "limit": "quick"}, "not a number"),
        ({"watch": "force_rate"}, "has no limit"), ({"watch": "frame_motion", "limit": "-1 mm"}, "never be reached"),
        ({"watch": "frame_motion"}, ""), ({"watch": "overload"}, ""), ({"watch": "current", "limit": "3 A"}, ""),
    ],
)  # fmt: skip
@pytest.mark.parametrize("of", ["rig", "plan"])
def test_a_guard_that_could_never_act_is_refused(part: dict[str, Any], why: str, of: str) -> None:
    rig = check(Rig, demo_rig(), "rig")
    parts = [GuardPart.model_validate(part)]
    held = rig.model_copy(update={"guards": parts if of == "rig" else []})
    control = {"guards": [part] if of == "plan" else []}
    if not why:
        check_limits(held, control)
        return
    with pytest.raises(BadInput, match=why):
        check_limits(held, control)
