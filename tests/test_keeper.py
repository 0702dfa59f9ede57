"""The guards' loop, message by message, against a device and a run that are scripts: no process, no clock."""

from __future__ import annotations

import json
import struct
import subprocess
import sys
from collections import deque
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from lucid_anvil.engine import keeper as keeper_module
from lucid_anvil.engine.keeper import DEVICE_PATIENCE, DEVICE_START, PATIENCE, STANDIN_PATIENCE, Keeper, channel_scales
from lucid_anvil.engine.ring import Ring
from lucid_anvil.engine.study import demo_rig
from lucid_anvil.formats.hdf5file import read_events
from lucid_anvil.rig.aftermath import LINGER, NAME
from lucid_anvil.rig.chamber import ChamberPart
from lucid_anvil.rig.device import InputBlock
from lucid_anvil.rig.model import Rig

N, RATE = 512, 51200.0
ROLES = 5
NAN = float("nan")
SENSITIVITY = {"reference": 0.01, "unit": 0.02}


class Device:
    """Blocks in order, as loud as it is told; whatever it is sent is kept. A message may stand in the way of a block."""

    def __init__(self, blocks: int) -> None:
        self.blocks, self.index = blocks, 0
        self.before: dict[int, list[tuple[bytes, Any]]] = {}
        self.level = np.zeros(blocks)
        self.sent: list[tuple[bytes, bytes]] = []
        self.asked: list[float] = []
        self.silent_from = self.deaf_from = 10**9
        self.dismissed = False

    def ready(self, timeout: float) -> bool:
        self.asked.append(timeout)
        return self.index < self.silent_from and not (self.dismissed and self.index >= self.blocks)

    def receive(self) -> tuple[bytes, bytes]:
        held = self.before.get(self.index)
        if held:
            kind, data = held.pop(0)
            return kind, json.dumps(data).encode()
        if self.index >= self.blocks:
            raise EOFError
        rows = np.full((ROLES, N), 0.001)
        rows[0] = self.level[self.index] * np.sin(2 * np.pi * 200 * np.arange(N) / RATE)
        bias = np.array([11.0, 10.5, 12.0, NAN])
        block = InputBlock(self.index, rows, np.zeros(4, bool), bias, 21.0, 40.0, 229.0, 0)
        self.index += 1
        return b"I", block.pack()

    def send(self, kind: bytes, payload: bytes = b"") -> None:
        if self.index >= self.deaf_from:
            raise OSError
        self.dismissed = self.dismissed or kind == b"Q"
        self.sent.append((kind, payload))

    def send_json(self, kind: bytes, data: Any) -> None:
        self.send(kind, json.dumps(data).encode())

    @property
    def played(self) -> list[np.ndarray]:
        return [np.frombuffer(p, "<f8") for k, p in self.sent if k == b"O"]

    def told(self, kind: bytes) -> list[Any]:
        return [json.loads(p) if p else None for k, p in self.sent if k == kind]


class Run:
    """Answers each block with a drive of one volt; `orders` by block come before it."""

    def __init__(self, ring: Ring) -> None:
        self.ring = ring
        self.orders: dict[int, list[tuple[bytes, Any]]] = {}
        self.heard: list[dict[str, Any]] = []
        self.waiting: deque[tuple[bytes, bytes]] = deque()
        self.late: set[int] = set()
        self.patience: list[float] = []
        """How long it was waited for, each time"""
        self.gone_from = self.deaf_from = 10**9
        self.expect: dict[int, tuple[float, float, float, float]] = {}
        self.size = 1.0

    def send_json(self, _kind: bytes, data: dict[str, Any]) -> None:
        if "i" in data and data["i"] >= self.deaf_from:
            raise OSError
        self.heard.append(data)
        if "i" not in data:
            return
        i = data["i"]
        for kind, order in self.orders.get(i, []):
            self.waiting.append((kind, order if isinstance(order, bytes) else json.dumps(order).encode()))
        if i not in self.late:
            self.ring.put_drive(i + 2, np.full(N, self.size))
            self.waiting.append((b"D", struct.pack("<qdddd", i + 2, *self.expect.get(i, (NAN, NAN, NAN, NAN)))))

    def ready(self, timeout: float) -> bool:
        self.patience.append(timeout)
        return bool(self.waiting) or len(self.blocks) > self.gone_from

    def receive(self) -> tuple[bytes, bytes]:
        if len(self.blocks) > self.gone_from:
            raise EOFError
        return self.waiting.popleft()

    @property
    def blocks(self) -> list[dict[str, Any]]:
        return [h for h in self.heard if "i" in h]

    def said(self, key: str) -> list[Any]:
        return [h[key] for h in self.heard if key in h]


class Bench:
    def __init__(self, folder: Path, blocks: int, guards: list[dict[str, Any]], **rig: Any) -> None:
        data = demo_rig()
        data["front_end"] |= {"block": N, "rate": f"{RATE} Hz"}
        data["guards"] = guards
        data |= {"cut_time": "20 ms", "ease_time": "60 ms", **rig}
        self.rig = Rig.model_validate(data)
        self.ring = Ring(ROLES, N)
        self.device, self.run = Device(blocks), Run(self.ring)
        self.log = folder / "guards.jsonl"
        control = {"roles": ["reference"], "combine": "average"}
        self.keeper = Keeper(self.rig, self.device, self.run, self.ring, "fast", self.log, SENSITIVITY, control)  # type: ignore[arg-type]

    def go(self, armed: int = 0) -> list[np.ndarray]:
        """Run to the end; armed from a block on. What was played."""
        if armed >= 0:
            self.run.orders.setdefault(armed, []).insert(0, (b"A", {"first": armed + 1}))
        self.keeper.run()
        return self.device.played

    @property
    def notes(self) -> list[dict[str, Any]]:
        return list(read_events(self.log)) if self.log.exists() else []

    def noted(self, kind: str) -> list[dict[str, Any]]:
        return [n for n in self.notes if n["kind"] == kind]


@pytest.fixture
def bench(tmp_path: Path) -> Iterator[Any]:
    made: list[Bench] = []

    def make(blocks: int = 12, guards: list[dict[str, Any]] | None = None, **rig: Any) -> Bench:
        folder = tmp_path / str(len(made))
        folder.mkdir()
        made.append(Bench(folder, blocks, guards or [], **rig))
        return made[-1]

    yield make
    for one in made:
        one.ring.close()


def test_volts_become_units_and_amperes() -> None:
    rig = Rig.model_validate(demo_rig())
    assert [c.role for c in rig.channels] == ["reference", "unit", "transverse", "current"]
    made = channel_scales(rig, SENSITIVITY)
    assert made == pytest.approx([100.0, 50.0, 100.0, 1.0 / rig.channels[3].scale])
    rig.channels[2].kind = "voltage"
    assert channel_scales(rig, SENSITIVITY)[2] == 1.0


def test_an_input_that_is_turned_round_is_seen_as_it_should_be(bench: Any) -> None:
    b = bench(2)
    part = b.rig.channels[1].model_copy(update={"polarity": "reversed"})
    b.rig.channels[1] = part
    b.keeper = Keeper(b.rig, b.device, b.run, b.ring, "fast", b.log, SENSITIVITY, {"roles": ["reference"]})
    b.go(armed=-1)
    held = b.ring.input(1)
    assert np.all(held[1] == -0.001) and np.all(held[2] == 0.001) and np.all(held[-1] == 0.001)


def test_nothing_is_driven_before_it_is_armed(bench: Any) -> None:
    b = bench(8)
    played = b.go(armed=3)
    assert [float(p[0]) for p in played] == [0.0, 0.0, 0.0, 1.0, 1.0, 1.0, 1.0, 1.0]
    (armed,) = b.noted("armed")
    assert armed["block"] == 4 and b.device.told(b"C") == [{"name": "begin", "value": 4 * N / RATE}]
    assert b.run.said("lost") == ["The front end is gone."] and b.noted("device gone")


def test_what_a_run_is_told_of_a_block(bench: Any) -> None:
    b = bench(3)
    b.device.before[0] = [(b"T", {"unit": "aa"})]
    b.device.before[1] = [(b"X", {"dropout": "two blocks lost"})]
    b.device.level[1] = 0.5
    b.go()
    assert b.run.said("identity") == [{"unit": "aa"}] and b.run.said("dropout") == ["two blocks lost"]
    assert [n["dropout"] for n in b.noted("device")] == ["two blocks lost"]
    first, second, _ = b.run.blocks
    assert first["bias"] == [11.0, 10.5, 12.0, None] and first["room"] == [21.0, 40.0, 229.0]
    assert (first["overload"], first["interlock"], first["zero"], first["trips"]) == ([], 0, False, [])
    assert first["free"] > 0 and "instruments" not in first
    assert np.abs(b.ring.input(1)[0]).max() == pytest.approx(0.5, rel=0.01) and second["i"] == 1


def test_a_device_has_time_to_come_up_and_less_for_a_block(bench: Any) -> None:
    b = bench(3)
    b.device.silent_from = 2
    b.go()
    assert b.device.asked[:3] == [DEVICE_START, DEVICE_PATIENCE["fast"], DEVICE_PATIENCE["fast"]]
    assert b.run.said("lost") == ["The front end stopped answering."]
    (note,) = b.noted("device silent")
    assert note["after"] == DEVICE_PATIENCE["fast"] > STANDIN_PATIENCE > DEVICE_PATIENCE["real"]
    c = bench(3)
    c.keeper.pace = "real"
    c.go()
    assert c.device.asked[1] == STANDIN_PATIENCE  # a busy machine is no fault of a stand-in


def test_a_device_that_gives_up_ends_it(bench: Any) -> None:
    b = bench(9)
    b.device.before[4] = [(b"X", {"lost": "the card was unplugged"})]
    b.go()
    assert b.run.said("lost") == ["the card was unplugged"] and len(b.device.played) == 4
    c = bench(9)
    c.device.deaf_from = 3
    assert len(c.go()) == 2 and c.noted("device gone")


@pytest.mark.parametrize(("action", "blocks"), [("cut", 2), ("ease", 6)])
def test_a_guard_brings_the_drive_down_two_blocks_after_it_saw(bench: Any, action: str, blocks: int) -> None:
    b = bench(16, [{"watch": "acceleration", "limit": "20 m/s^2", "channel": "reference", "action": action}])
    b.device.level[5] = 0.3  # 30 m/s²
    played = b.go()
    assert all(np.all(p == 1.0) for p in played[:5])
    falling = np.concatenate(played[5:])
    assert falling[0] < 1 and np.all(np.diff(falling) <= 0) and np.flatnonzero(falling == 0)[0] == blocks * N - 1
    (trip,) = b.noted("trip")
    assert (trip["guard"], trip["action"], trip["first_altered_block"]) == ("acceleration", action, 7)
    assert trip["value"] == pytest.approx(30, rel=0.01) and b.run.blocks[5]["trips"][0]["guard"] == "acceleration"
    (zero,) = b.noted("zero")
    assert zero["block"] == 5 + blocks - 1 + 2 and zero["t"] == pytest.approx((zero["block"] + 1) * N / RATE)
    assert [h["zero"] for h in b.run.blocks[5 + blocks :]] == [True] * (16 - 5 - blocks)


def test_no_guard_acts_before_it_is_armed(bench: Any) -> None:
    b = bench(8, [{"watch": "acceleration", "limit": "20 m/s^2", "channel": "reference"}])
    b.device.level[:3] = 0.3
    b.go(armed=4)
    assert not b.noted("trip") and all(h["trips"] == [] for h in b.run.blocks)
    assert float(b.device.played[-1][0]) == 1.0


def test_a_drive_that_comes_late_brings_it_down(bench: Any) -> None:
    b = bench(16)
    b.run.late = {6, 7, 8}
    played = b.go()
    (trip,) = b.noted("trip")
    assert (trip["guard"], trip["action"], trip["block"], trip["label"]) == ("late", "cut", 8, "Drive block late")
    assert b.run.said("late") == [8]
    falling = np.concatenate(played[6:])
    assert np.flatnonzero(falling == 0)[0] == 8 * N - 1  # four times as slow as a cut
    c = bench(8)
    c.run.late = {0, 1, 2}
    c.run.size = 0.0
    c.go()
    assert not c.noted("trip")  # where nothing is driven nothing need be brought down


@pytest.mark.parametrize("pace", ["real", "fast"])
def test_a_drive_is_waited_for_as_long_as_the_pace_allows(bench: Any, pace: str) -> None:
    b = bench(6)
    b.keeper.pace = pace
    b.go()
    most = b.rig.front_end.patience if pace == "real" else keeper_module.PATIENCE
    assert max(b.run.patience) == pytest.approx(most, abs=0.05)
    # What is left of it when something else came first is less, and never less than nothing.
    c = bench(3)
    c.keeper.pace = "real"
    c.keeper.rig = c.rig.model_copy(update={"front_end": c.rig.front_end.model_copy(update={"patience": 1e-6})})
    c.run.orders[1] = [(b"K", {"sensitivities": SENSITIVITY, "control": {}})] * 3
    c.go()
    assert max(c.run.patience) <= 1e-6


def test_a_front_end_that_is_real_gets_no_more_time_than_its_own(bench: Any) -> None:
    for driver, least in (("standin", keeper_module.STANDIN_PATIENCE), ("soundcard", 0.0)):
        b = bench(3)
        b.keeper.pace = "real"
        b.keeper.rig = b.rig.model_copy(
            update={"front_end": b.rig.front_end.model_copy(update={"driver": driver})}
        )
        b.go()
        assert b.keeper.patience == max(keeper_module.DEVICE_PATIENCE["real"], least)


def test_the_guards_know_what_the_probe_run_found(bench: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    b, known = bench(6), []
    monkeypatch.setattr(b.keeper.guards, "know", known.append)
    monkeypatch.setattr(keeper_module.chain, "unpack", lambda payload: ("model", payload))
    b.run.orders[2] = [(b"M", b"packed")]
    b.go()
    assert known == [("model", b"packed")]
    assert all("rooms" in block and isinstance(block["rooms"], list) for block in b.run.blocks)


def test_only_the_drive_for_this_block_counts(bench: Any) -> None:
    b = bench(6)
    b.run.orders[3] = [(b"D", struct.pack("<qdddd", 99, NAN, NAN, NAN, NAN))]
    b.go()
    assert all(np.all(p == 1.0) for p in b.device.played)


@pytest.mark.parametrize(("order", "span", "who"), [({"why": "F12", "action": "cut"}, 2, "operator"),
                                                    ({"why": "F12", "action": "ease"}, 6, "operator"),
                                                    ({"why": "record", "action": "ease", "guard": "record"}, 6, "record")])  # fmt: skip
def test_an_order_to_stop(bench: Any, order: dict[str, Any], span: int, who: str) -> None:
    b = bench(16)
    b.run.orders[4] = [(b"S", order)]
    played = b.go()
    falling = np.concatenate(played[4:])
    assert np.all(np.concatenate(played[:4]) == 1) and np.flatnonzero(falling == 0)[0] == span * N - 1
    (trip,) = b.noted("trip")
    assert (trip["guard"], trip["label"], trip["action"], trip["block"]) == (who, order["why"], order["action"], 6)


def test_a_run_that_is_gone_is_brought_down_and_its_last_blocks_kept(bench: Any) -> None:
    b = bench(40)
    b.run.gone_from = 10
    b.device.level[:] = 0.1
    played = b.go()
    (trip,) = b.noted("trip")
    assert (trip["guard"], trip["label"], trip["action"]) == ("conductor", "the run is gone", "cut")
    falling = np.concatenate(played[10:])
    assert np.flatnonzero(falling == 0)[0] == 8 * N - 1 and np.all(np.concatenate(played[18:]) == 0)
    assert len(played) == 18 + LINGER and b.device.told(b"Q") == [None]
    held = np.load(b.log.parent / NAME)
    assert held["altered"] == 12 - 1 and held["block"] == N  # counted from the take's begin, block 1
    assert held["rows"].shape[0] == ROLES and held["rows"].shape[1] % N == 0
    assert held["first"] + held["rows"].shape[1] // N == len(played) - 1
    assert held["factors"][3] == pytest.approx(1 / b.rig.channels[3].scale)


def test_a_run_that_can_not_be_told_is_gone_too(bench: Any) -> None:
    b = bench(40)
    b.run.deaf_from = 6
    b.go()
    assert [n["guard"] for n in b.noted("trip")] == ["conductor"] and np.all(b.device.played[-1] == 0)


def test_one_that_says_good_bye_leaves_at_once(bench: Any) -> None:
    b = bench(40)
    b.run.orders[5] = [(b"Q", b"")]
    played = b.go()
    assert np.flatnonzero(np.concatenate(played[5:]) == 0)[0] == 8 * N - 1 and not b.noted("trip")
    assert len(played) == 13 and b.device.told(b"Q") == [None] and not (b.log.parent / NAME).exists()
    # What is not driven is left in the same block, and nothing waits for a drive that never comes.
    c = bench(40)
    c.run.size = 0.0
    c.run.orders[5] = [(b"Q", b"")]
    assert len(c.go()) == 6 and not c.noted("trip")


def test_settings_reach_the_device_and_changed_plans_the_guards(bench: Any) -> None:
    b = bench(10, [{"watch": "acceleration", "limit": "20 m/s^2", "channel": "reference"}])
    b.run.orders[1] = [(b"C", {"name": "insert", "value": True})]
    halved = {"sensitivities": {"reference": 0.005, "unit": 0.02}, "control": {"roles": ["reference"]}}
    b.run.orders[2] = [(b"K", halved)]
    b.device.level[6] = 0.15  # 15 m/s² as it was, 30 as it is now
    b.go(armed=3)
    assert b.device.told(b"C")[0] == {"name": "insert", "value": True}
    assert [n["guard"] for n in b.noted("trip")] == ["acceleration"]
    # Once armed, a plan is what it was.
    c = bench(10, [{"watch": "acceleration", "limit": "20 m/s^2", "channel": "reference"}])
    c.run.orders[4] = [(b"K", halved)]
    c.device.level[6] = 0.15
    c.go(armed=3)
    assert not c.noted("trip")


def test_what_the_control_should_show_is_held_to_its_block(bench: Any) -> None:
    b = bench(16, [{"watch": "control_lost", "limit": 0.25}])
    b.device.level[:] = 0.1  # 7.07 m/s² rms
    for i in range(16):
        b.run.expect[i] = (7.07, NAN, NAN, NAN)
    b.run.expect[7] = (70.7, NAN, NAN, NAN)  # what block 9 is to show
    b.go()
    trips = b.noted("trip")
    assert [t["guard"] for t in trips] == ["control_lost"] and trips[0]["first_altered_block"] >= 11
    c = bench(16, [{"watch": "abort"}])
    c.device.level[:] = 0.1
    for i in range(16):
        c.run.expect[i] = (7.07, 3.0, 14.0, 0.01)
    c.run.expect[7] = (7.07, 7.5, 14.0, 0.01)  # an edge above what it shows
    c.go()
    assert [t["guard"] for t in c.noted("trip")] == ["abort"] and c.noted("trip")[0]["first_altered_block"] == 11


def test_instruments_are_reached_and_shown(bench: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    class Desk:
        shown, trouble = {"supply": 230.0}, None
        answers = (("supply", "made up", 0.002),)

        def __init__(self) -> None:
            self.times: list[float] = []
            self.put_: list[tuple[str, Any]] = []

        def at(self, t: float) -> None:
            self.times.append(t)

        def put(self, name: str, value: Any) -> None:
            self.put_.append((name, value))

    desk, asked = Desk(), []
    monkeypatch.setattr(keeper_module, "watched", lambda *given: asked.append(given) or desk)
    b = bench(4)
    b.device.before[0] = [(b"P", {"supply": ["127.0.0.1", 5025]})]
    b.run.orders[1] = [(b"C", {"name": "loads", "value": {"A": 8}}), (b"C", {"name": "insert", "value": False})]
    b.go()
    roles = ["reference", "unit", "transverse", "current"]
    assert asked == [({"supply": ["127.0.0.1", 5025]}, roles, "fast", None, None)]  # neither chamber nor gauge
    assert desk.put_ == [("loads", {"A": 8})] and {"name": "insert", "value": False} in b.device.told(b"C")
    assert desk.times == pytest.approx([i * N / RATE for i in range(4)])
    assert b.run.blocks[0]["instruments"] == {"supply": 230.0} and b.run.blocks[0]["trouble"] is None
    (who,) = b.run.said("who")
    (name, said, took), *others = who
    assert (name, said) == ("stand-in front end", "") and 0 <= took < 30 and others == [("supply", "made up", 0.002)]
    none = bench(2)
    none.device.before[0] = [(b"P", {})]
    none.go()
    assert none.keeper.desk is None and len(asked) == 1

    # A real front end tells of none: those that the rig file names are reached, before the first block.
    chamber = ChamberPart(host="10.0.0.9", port=502)
    for changes, count in (({"chamber": chamber}, 2), ({"chamber": ChamberPart()}, 2), ({}, 2)):
        real = bench(2)
        end = real.keeper.rig.front_end.model_copy(update={"driver": "soundcard"})
        real.keeper.rig = real.keeper.rig.model_copy(update={"front_end": end, **changes})
        real.device.before[0] = [(b"T", {})]
        real.go()
        assert len(asked) == count and (real.keeper.desk is desk) == (changes.get("chamber") is chamber)
    assert asked[-1][0] == {"chamber": ("10.0.0.9", 502)} and asked[-1][3] == chamber

    def refuses(*_: Any) -> Any:
        raise keeper_module.Trouble("the supply at 127.0.0.1 does not answer")

    monkeypatch.setattr(keeper_module, "watched", refuses)
    c = bench(3)
    c.device.before[0] = [(b"P", {"supply": ["127.0.0.1", 1]})]
    c.go()
    assert c.run.said("lost")[0] == "the supply at 127.0.0.1 does not answer"


def test_simulated_time_waits_longer_than_a_real_front_end_lets_it() -> None:
    assert Rig.model_validate(demo_rig()).front_end.patience < PATIENCE


# --- how it comes up ---------------------------------------------------------------------------------------------------


class Process:
    pid = 4711

    def __init__(self, hangs: bool) -> None:
        self.hangs, self.waited, self.killed = hangs, [], False

    def wait(self, timeout: float) -> None:
        self.waited.append(timeout)
        if self.hangs:
            raise subprocess.TimeoutExpired("device", timeout)

    def poll(self) -> int | None:
        return None if self.hangs else 0

    def kill(self) -> None:
        self.killed = True


@pytest.mark.parametrize(("pace", "hangs"), [("fast", False), ("real", True)])
def test_it_comes_up_with_what_it_is_told(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, pace: str, hangs: bool
) -> None:
    from lucid_anvil.lab.textfiles import dump_yaml

    data = demo_rig()
    data["front_end"] |= {"block": N, "rate": f"{RATE} Hz"}
    (tmp_path / "a.rig.yaml").write_text(dump_yaml(data), encoding="utf-8")
    ring = Ring(ROLES, N)
    device, run, process = Device(4), Run(ring), Process(hangs)
    device.sock = type("Sock", (), {"close": lambda self: closed.append(True)})()  # type: ignore[attr-defined]
    closed: list[bool] = []
    asked: list[Any] = []
    monkeypatch.setattr(keeper_module, "wire_from_fd", lambda fd: asked.append(fd) or run)
    monkeypatch.setattr(keeper_module, "start_device", lambda *given: asked.append(given) or (device, process))
    monkeypatch.setattr(keeper_module, "prefer", lambda by: asked.append(("prefer", by)))
    made: list[Keeper] = []
    monkeypatch.setattr(Keeper, "run", lambda self: made.append(self))
    monkeypatch.delenv("OMP_NUM_THREADS", raising=False)
    words = ["--fd", "7", "--rig", tmp_path / "a.rig.yaml", "--ring", ring.name, "--pace", pace, "--log",
             tmp_path / "take" / "guards.jsonl", "--sensitivities", '{"reference": 0.02}', "--control",
             '{"roles": ["unit"]}']  # fmt: skip
    monkeypatch.setattr(sys, "argv", ["keeper", *map(str, words)])
    try:
        keeper_module.main()
    finally:
        ring.close()
    assert asked[:2] == [7, (tmp_path / "a.rig.yaml", pace, tmp_path / "take" / "device.jsonl", "standin")]
    assert asked[2:] == ([("prefer", 20)] if pace == "real" else [])
    (keeper,) = made
    assert keeper.device is device and keeper.conductor is run and keeper.pace == pace
    assert keeper.scales[:2] == [50.0, 100.0] and keeper.guards.points == ["unit"]
    assert keeper.log == tmp_path / "take" / "guards.jsonl" and keeper_module.os.environ["OMP_NUM_THREADS"] == "1"
    assert run.heard == [{"hello": keeper_module.os.getpid(), "device": 4711}]
    assert closed == [True] and process.waited == [2.0] and process.killed is hangs


def test_a_rig_that_can_not_be_read_is_told(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    ring = Ring(ROLES, N)
    run = Run(ring)
    monkeypatch.setattr(keeper_module, "wire_from_fd", lambda fd: run)
    words = ["--fd", "7", "--rig", tmp_path / "none.yaml", "--ring", ring.name, "--pace", "fast", "--log",
             tmp_path / "guards.jsonl", "--sensitivities", "{}"]  # fmt: skip
    monkeypatch.setattr(sys, "argv", ["keeper", *map(str, words)])
    keeper_module.main()
    ring.close()
    assert len(run.heard) == 1 and "none.yaml" in run.heard[0]["lost"]


@pytest.mark.parametrize(("driver", "module"), [("standin", "rig.standins.serve"), ("soundcard", "rig.soundcard")])
def test_the_devices_process_gets_its_end_of_the_wire(
    monkeypatch: pytest.MonkeyPatch, driver: str, module: str
) -> None:
    started: list[tuple[Any, ...]] = []
    monkeypatch.setattr(keeper_module.nursery, "start", lambda *given: started.append(given) or "it")
    wire, process = keeper_module.start_device(Path("a.rig.yaml"), "real", Path("device.jsonl"), driver)
    ((what, words, (fd,)),) = started
    assert what == f"lucid_anvil.{module}" and process == "it"
    assert words == ["--fd", str(fd), "--rig", "a.rig.yaml", "--pace", "real", "--log", "device.jsonl"]
    assert wire.sock.recv(1) == b""  # our copy of its end is closed: when it dies we are told
    wire.sock.close()
