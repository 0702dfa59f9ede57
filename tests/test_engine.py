"""Keeper, conductor, door and recorder as processes: runs, faults, kills and hangs."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import httpx
import numpy as np
import pytest
from tests.conftest import Running, short_plan

from lucid_anvil.engine import conductor, keeper, launch
from lucid_anvil.engine.evaluating import evaluate_take
from lucid_anvil.engine.recorder import Recorder
from lucid_anvil.engine.settling import close_take
from lucid_anvil.formats import read
from lucid_anvil.formats.hdf5file import read_events
from lucid_anvil.lab.takes import Take

Conduct = Callable[..., Running]
BLOCK, RATE = 2048, 51200.0
LONG = {"dwell": "3 s", "start": "125 Hz", "stop": "1000 Hz", "steps_per_octave": 1}
PATIENT = {"front_end": {"patience": "1.5 s"}}
"""For real pace on a machine that does other things meanwhile."""


def raw(take: Path) -> dict[str, np.ndarray]:
    return {c.label: c.samples() for c in Take(take).recording().channels}


def pids(take: Path) -> dict[str, int]:
    return next(e for e in Take(take).events() if e["kind"] == "begin")["pids"]


def driven(board: Any) -> bool:
    return board.state == "running" and bool(board.points) and board.live.get("stage") == "measuring"


def sensed_done(board: Any) -> bool:
    return bool(board.checks) and all(c.done for c in board.checks if c.kind == "sensed")


def wait_file(place: Path, words: str, timeout: float = 15.0) -> str:
    until = time.monotonic() + timeout
    while time.monotonic() < until:
        if place.exists() and words in place.read_text():
            return place.read_text()
        time.sleep(0.05)
    raise AssertionError(f"{place.name} never said '{words}'")


def gone(pid: int, timeout: float = 12.0) -> bool:
    until = time.monotonic() + timeout
    while time.monotonic() < until:
        try:
            if Path(f"/proc/{pid}/stat").read_text().split(")")[1].split()[0] == "Z":
                return True
        except (FileNotFoundError, ProcessLookupError):
            return True
        time.sleep(0.05)
    return False


def test_a_run_from_walk_round_to_finding(demo_lab: Any, conduct: Conduct) -> None:
    running = conduct(short_plan(demo_lab))
    board = running.over()
    assert board.state == "done", board.message
    take = Take(running.take)
    assert take.status() == "done"
    assert take.reason() is None
    finding = take.finding()
    assert finding is not None
    truth = demo_lab_truth(demo_lab)
    assert finding.reading("sensitivity").value == pytest.approx(truth, rel=2e-3)
    assert finding.verdict == "inside"
    assert {p["frequency"] for p in board.points} == {63.0, 125.0, 160.0, 250.0, 500.0}
    # The live points are what the take says afterwards.
    curve = finding.curve("sensitivity")
    live = {p["frequency"]: p["sensitivity"] for p in board.points}
    assert [live[f] for f in curve.x] == pytest.approx(list(curve.y), rel=2e-4)
    # Raw streams, hash, events, plan and rig are there; the streams can't be written any more.
    assert (running.take / "raw.h5").stat().st_mode & 0o222 == 0
    end = take.events()[-1]
    import hashlib

    assert end["sha256"] == hashlib.sha256((running.take / "raw.h5").read_bytes()).hexdigest()
    held = read(running.take)
    assert [c.label for c in held.channels] == ["reference", "unit", "transverse", "current", "drive"]
    assert held.channels[0].meta["sensor"] == "GA-02"
    assert np.max(np.abs(held.channel("drive").samples()[-BLOCK:])) == 0
    # Read again from the raw record, the same comes out.
    assert evaluate_take(take).reading("sensitivity").value == finding.reading("sensitivity").value
    ledger = demo_lab.ledger()
    assert [t["role"] for t in ledger.traces("GA-02")] == ["reference"]


def demo_lab_truth(lab: Any) -> float:
    from lucid_anvil.rig.model import load_rig

    rig = load_rig(lab.rig_file())
    sensor = rig.standin.sensors["GA-11"]
    warm = 1 + sensor.temperature_coefficient / 100 * (rig.room.temperature - 23)
    return 1e3 * abs(sensor.model().response(np.array([160.0]))[0]) * warm * 1.0006


def test_the_drive_never_steps(demo_lab: Any, conduct: Conduct) -> None:
    running = conduct(short_plan(demo_lab))
    running.over()
    x = raw(running.take)["drive"]
    # The steepest honest slope: full amplitude at the highest frequency.
    limit = 1.3 * np.max(np.abs(x)) * 2 * np.pi * 500 / RATE
    assert np.max(np.abs(np.diff(x))) < limit


@pytest.mark.parametrize(
    ("fault", "guard", "channel"),
    [
        ({"kind": "overload", "channel": "unit"}, "overload", "unit"),
        ({"kind": "amplifier_trip"}, "control_lost", "reference"),
        ({"kind": "open", "channel": "unit"}, "supply", "unit"),
        ({"kind": "short", "channel": "reference"}, "supply", "reference"),
        ({"kind": "gain_jump", "channel": "reference", "size": 9.0}, "control_lost", "reference"),
        ({"kind": "no_output", "channel": "reference"}, "control_lost", "reference"),
    ],
)
def test_a_fault_brings_the_drive_down_in_time(
    demo_lab: Any, conduct: Conduct, fault: dict[str, Any], guard: str, channel: str
) -> None:
    at = 5.0
    changes = {**LONG, "level": "5 m/s^2"}  # low enough that a jump in gain does not overload first
    plan = short_plan(demo_lab, changes, {"standin": {"faults": [{"at": f"{at} s", **fault}]}})
    running = conduct(plan)
    board = running.over()
    take = Take(running.take)
    assert take.status() == "cut"
    trip = next(e for e in read_events(running.take / "guards.jsonl") if e["kind"] == "trip")
    assert trip["guard"] == guard
    assert trip["channel"] == channel
    assert board.trip["sentence"] == take.reason()
    # Two blocks after the block in which it was seen the drive is altered; after the cut time it is zero.
    events = {e["kind"]: e for e in take.events()}
    first = int(round(events["trip"]["t"] * RATE))
    x = raw(running.take)["drive"]
    delay = 48  # all inputs of the stand-in lag by its latency
    assert np.max(np.abs(x[first - BLOCK : first + BLOCK])) > 1e-3
    zero_from = first + 2 * BLOCK + delay + int(0.005 * RATE) + 1
    assert np.max(np.abs(x[zero_from:])) == 0
    assert x.size > zero_from


@pytest.mark.parametrize(
    ("guard", "action", "within"),
    [
        ({"watch": "drive", "limit": "20 mV"}, "cut", 0.005),
        ({"watch": "current", "limit": "0.1 A"}, "cut", 0.005),
        ({"watch": "stroke", "limit": "5 µm"}, "cut", 0.005),
        ({"watch": "acceleration", "limit": "12 m/s^2"}, "ease", 0.5),
        ({"watch": "disk", "limit": 1e18}, "ease", 0.5),
    ],
)
def test_each_limit_brings_the_drive_down_in_its_time(
    demo_lab: Any, conduct: Conduct, guard: dict[str, Any], action: str, within: float
) -> None:
    running = conduct(short_plan(demo_lab, {"start": "160 Hz"}, {"guards": [{**guard, "action": action}]}))
    running.over()
    take = Take(running.take)
    assert take.status() == "cut"
    trip = next(e for e in take.events() if e["kind"] == "trip")
    assert (trip["guard"], trip["action"]) == (guard["watch"], action)
    first = int(round(trip["t"] * RATE))
    x = raw(running.take)["drive"]
    altered = first + 2 * BLOCK + 48
    zero_from = altered + int(within * RATE) + 1
    assert np.max(np.abs(x[zero_from:])) == 0
    if action == "ease":
        assert np.max(np.abs(x[altered : altered + BLOCK])) > 0


def test_what_the_walk_round_mends_does_not_trip_the_run(demo_lab: Any, conduct: Conduct) -> None:
    faults = [{"at": 0, "kind": "open", "channel": "unit", "lasts": "1 s"}]
    running = conduct(short_plan(demo_lab, None, {"standin": {"faults": faults}}))
    assert running.over().state == "done"
    take = Take(running.take)
    assert take.status() == "done"
    kinds = [e["kind"] for e in read_events(running.take / "guards.jsonl")]
    assert kinds[0] == "armed"
    assert "trip" not in kinds
    assert np.max(np.abs(raw(running.take)["drive"])) > 0.01


def test_kill_the_window(demo_lab: Any, tmp_path: Path) -> None:
    plan = short_plan(demo_lab, {**LONG, "dwell": "20 s"})  # longer than a window lives, on a fast machine too
    process = launch.start(plan, None, plan.parent / "take", "fast", demo_lab.note, "T.T.", tmp_path / "log")
    running = Running(launch.wait_for(demo_lab.note, process, 60), process, plan.parent / "take")
    face = subprocess.Popen(
        [sys.executable, "-m", "lucid_anvil.cli", "window", str(demo_lab.folder)],
        env={**os.environ, "QT_QPA_PLATFORM": "offscreen", "LUCID_ANVIL_LABS": str(tmp_path / "labs.json")},
    )
    running.wait(driven)
    wait_file(tmp_path / "labs.json", demo_lab.folder.name, 60)  # the window is up
    assert face.poll() is None
    face.kill()
    face.wait(10)
    before = running.board()
    assert before.state == "running"
    after = running.wait(lambda b: b.t > before.t + 5.0)  # to its end it goes in `test_desktop`
    assert after.state == "running"
    launch.order(running.address, "stop", why="seen enough")
    assert running.over().state == "done" and Take(running.take).status() == "cut"
    launch.order(running.address, "close")
    process.wait(20)


@pytest.mark.parametrize("at", ["walk-round", "running", "done"])
def test_a_run_that_the_system_ends_eases_down_is_read_and_goes(demo_lab: Any, conduct: Conduct, at: str) -> None:
    """It does not wait half an hour for faces: a machine that shuts down would kill it then."""
    running = conduct(
        short_plan(demo_lab, LONG if at == "running" else {}), auto=None if at == "walk-round" else "T.T."
    )
    running.wait(driven if at == "running" else lambda b: b.state == at)
    running.process.terminate()
    assert running.process.wait(60) == 0
    if at == "walk-round":
        assert not (running.take / "plan.yaml").exists()
        return
    take = Take(running.take)
    assert take.status() == ("cut" if at == "running" else "done") and take.finding() is not None
    if at == "running":
        assert "SIGTERM" in take.reason()


def test_stop_ramps_down_and_keeps_the_take(demo_lab: Any, conduct: Conduct) -> None:
    running = conduct(short_plan(demo_lab, LONG))
    running.wait(driven)
    launch.order(running.address, "mark", text="bolt turned")
    launch.order(running.address, "stop", why="stopped by the operator (F12)")
    board = running.over()
    take = Take(running.take)
    assert (take.status(), take.reason()) == ("cut", "stopped by the operator (F12)")
    assert board.finding is not None
    assert any(e["kind"] == "note" and e["text"] == "bolt turned" for e in take.events())
    x = raw(running.take)["drive"]
    assert np.max(np.abs(x[-BLOCK:])) == 0
    last = int(np.flatnonzero(np.abs(x) > 1e-9)[-1])
    level = np.array([np.max(np.abs(x[i : i + 512])) for i in range(last - 20480, last, 512)])
    assert np.all(np.diff(level) <= 1e-3)


def test_faults_of_the_signal_are_struck_and_the_run_goes_on(demo_lab: Any, conduct: Conduct) -> None:
    faults = [{"at": "3.4 s", "kind": "cable", "channel": "unit", "lasts": "2 s"}]
    guards = [{"watch": "drive", "limit": "4.9 V"}]
    running = conduct(short_plan(demo_lab, None, {"standin": {"faults": faults}, "guards": guards}))
    board = running.over()
    struck = [p for p in board.points if p.get("fault")]
    assert struck
    assert all("unit signal" in p["fault"] or "no output" in p["fault"] for p in struck)
    finding = Take(running.take).finding()
    assert finding is not None
    assert finding.verdict == "open"
    assert len([y for y in finding.curve("deviation").y if y is not None]) >= 2
    # The struck points are taken again alone; the new finding is whole.
    from lucid_anvil.lab import planning
    from lucid_anvil.lab.textfiles import dump_yaml, load_yaml, whole_write

    rig_data = load_yaml(demo_lab.rig_file())
    rig_data["standin"]["faults"] = []
    demo_lab.rig_file().write_text(dump_yaml(rig_data))
    again = planning.retake_plan(Take(running.take), running.take.parent, [p["frequency"] for p in struck])
    place = running.take.parent / "struck.plan.yaml"
    whole_write(place, dump_yaml(again))
    second = conduct(place, name="take2")
    second.over()
    whole = Take(second.take).finding()
    assert whole is not None
    assert whole.curve("deviation").x == finding.curve("deviation").x
    assert all(y is not None for y in whole.curve("deviation").y)


def test_kill_the_conductor(demo_lab: Any, conduct: Conduct) -> None:
    running = conduct(short_plan(demo_lab, LONG, PATIENT), pace="real")
    board = running.wait(driven)
    held = pids(running.take)
    os.kill(held["conductor"], signal.SIGKILL)
    running.process.wait(10)
    log = wait_file(running.take / "guards.jsonl", '"zero"')
    assert "the run is gone" in log
    assert gone(held["keeper"])
    assert gone(held["device"])
    assert not (running.take / "device.jsonl").exists()  # the keeper took leave of it in order
    take = Take(running.take)
    assert take.status() == "interrupted"
    assert take.reason() == "the run is gone"
    record = take.recording()
    assert record.channels[0].duration > board.t - 1.1
    assert np.all(np.isfinite(record.channels[0].samples()))
    assert evaluate_take(take).reading("sensitivity").value == pytest.approx(9.86, rel=0.01)
    before = record.channels[0].duration
    assert close_take(take)
    ends_at_zero(take)
    assert take.recording().channels[0].duration > before
    assert evaluate_take(take).reading("sensitivity").value == pytest.approx(9.86, rel=0.01)


def ends_at_zero(take: Take) -> None:
    """The record goes on, without a jump, until the drive is at zero and stays there."""
    rate = take.recording().channels[0].rate
    drive = raw(take.folder)["drive"]
    trip = next(e for e in take.events() if e["kind"] == "trip")
    brought = drive[round(trip["t"] * rate) :]
    assert np.max(np.abs(brought[: BLOCK // 4])) > 0.2 * np.max(np.abs(drive)) and np.all(brought[-BLOCK:] == 0)
    steps = np.abs(np.diff(drive))
    assert np.max(steps[-12 * BLOCK :]) < 1.3 * np.max(steps[: -12 * BLOCK])


def test_kill_the_keeper(demo_lab: Any, conduct: Conduct) -> None:
    running = conduct(short_plan(demo_lab, LONG, PATIENT), pace="real")
    running.wait(driven)
    held = pids(running.take)
    os.kill(held["keeper"], signal.SIGKILL)
    # The device's own watchdog zeroes its output, and writes down that it did.
    line = json.loads(wait_file(running.take / "device.jsonl", "watchdog").splitlines()[0])
    assert line["reason"] == "the guards are gone"
    assert line["level_before"] > 0
    assert line["last"] == 0
    board = running.over(30)
    assert board.state == "failed"
    take = Take(running.take)
    assert take.status() == "failed"
    assert "guards are gone" in (take.reason() or "")
    assert take.recording().channels[0].duration > 1
    ends_at_zero(take)
    assert gone(held["device"])


def test_a_conductor_that_hangs(demo_lab: Any, conduct: Conduct) -> None:
    running = conduct(short_plan(demo_lab, LONG, PATIENT), pace="real")
    running.wait(driven)
    held = pids(running.take)
    os.kill(held["conductor"], signal.SIGSTOP)
    try:
        log = wait_file(running.take / "guards.jsonl", '"zero"')
        assert '"late"' in log
    finally:
        os.kill(held["conductor"], signal.SIGCONT)
    running.over(30)
    take = Take(running.take)
    assert take.status() == "cut"
    assert "late" in (take.reason() or "")
    assert np.max(np.abs(raw(running.take)["drive"][-BLOCK:])) == 0


def test_each_waits_longer_than_those_it_waits_for() -> None:
    for pace in ("real", "fast"):
        assert max(keeper.DEVICE_PATIENCE[pace], keeper.STANDIN_PATIENCE) < conductor.ANSWER[pace]


def test_a_device_that_hangs(demo_lab: Any, conduct: Conduct) -> None:
    plan = short_plan(demo_lab, LONG, {"standin": {"faults": [{"at": "4 s", "kind": "hang"}]}})
    running = conduct(plan, "real")  # in simulated time a device is waited for much longer
    board = running.over()
    assert board.state == "failed"
    assert board.message is not None
    assert "front end stopped answering" in board.message  # and not that the guards do
    assert Take(running.take).recording().channels[0].duration > 1


def test_the_walk_round_holds_begin_shut(demo_lab: Any, conduct: Conduct) -> None:
    running = conduct(short_plan(demo_lab), auto=None)
    board = running.wait(lambda b: b.state == "walk-round" and sensed_done(b))
    assert [c.key for c in board.checks if not c.done] == ["mounting", "cables"]
    launch.order(running.address, "begin")
    launch.order(running.address, "sign", key="supply", by="K.B.")  # what is sensed takes no signature
    launch.order(running.address, "sign", key="mounting", by="  ")
    launch.order(running.address, "sign", key="mounting", by="K.B.")
    board = running.wait(lambda b: any(c.key == "mounting" and c.done for c in b.checks))
    assert board.state == "walk-round"
    assert next(c for c in board.checks if c.key == "mounting").by == "K.B."
    launch.order(running.address, "sign", key="cables", by="M.O.")
    running.wait(lambda b: all(c.done for c in b.checks))
    launch.order(running.address, "begin")
    running.wait(lambda b: b.state == "running")
    assert running.over().state == "done"
    begin = Take(running.take).events()[0]
    assert {c["key"]: c["by"] for c in begin["checks"] if c["by"]} == {"mounting": "K.B.", "cables": "M.O."}


def test_a_walk_round_that_is_left_leaves_nothing(demo_lab: Any, conduct: Conduct) -> None:
    running = conduct(short_plan(demo_lab), auto=None)
    running.wait(lambda b: b.state == "walk-round")
    launch.order(running.address, "close")
    running.process.wait(40)
    assert not running.take.exists()


def test_a_walk_round_that_nobody_looks_at_ends_by_itself(demo_lab: Any, tmp_path: Path) -> None:
    plan = short_plan(demo_lab)
    words = [
        "--plan",
        plan,
        "--take",
        plan.parent / "take",
        "--pace",
        "fast",
        "--note",
        tmp_path / "n",
        "--forsaken",
        1,
    ]
    done = subprocess.run(
        [sys.executable, "-m", "lucid_anvil.engine.conductor", *map(str, words)], timeout=60, capture_output=True
    )
    assert done.returncode == 0
    assert not (plan.parent / "take").exists()
    assert not (tmp_path / "n").exists()


def test_the_plan_may_change_before_it_begins(demo_lab: Any, conduct: Conduct) -> None:
    running = conduct(short_plan(demo_lab), auto=None)
    running.wait(lambda b: b.state == "walk-round")
    short_plan(demo_lab, {"stop": "250 Hz"})
    launch.order(running.address, "replan")
    for key in ("mounting", "cables"):
        launch.order(running.address, "sign", key=key, by="K.B.")
    running.wait(lambda b: bool(b.checks) and all(c.done for c in b.checks))
    launch.order(running.address, "begin")
    board = running.over()
    assert {p["frequency"] for p in board.points} == {63.0, 125.0, 160.0, 250.0}


def test_a_plan_that_became_unfit_does_not_begin(demo_lab: Any, conduct: Conduct) -> None:
    """What stands on the screen is the plan as it is now: nothing is driven by the one before."""
    running = conduct(short_plan(demo_lab), auto=None)
    running.wait(lambda b: b.state == "walk-round")
    for key in ("mounting", "cables"):
        launch.order(running.address, "sign", key=key, by="K.B.")
    running.wait(lambda b: bool(b.checks) and all(c.done for c in b.checks))
    plan = Path(str(running.board().plan))
    fit = plan.read_text(encoding="utf-8")
    plan.write_text(fit.replace("steps_per_octave:", "steps_per_oktave:"), encoding="utf-8")
    launch.order(running.address, "replan")
    running.wait(lambda b: "steps_per_oktave" in b.unread)
    launch.order(running.address, "begin")
    launch.order(running.address, "sign", key="cables", by="later")
    board = running.wait(lambda b: any(c.by == "later" for c in b.checks))  # what was ordered later is heeded
    assert board.state == "walk-round" and "steps_per_oktave" in board.unread
    plan.write_text(fit, encoding="utf-8")
    launch.order(running.address, "replan")
    running.wait(lambda b: not b.unread)
    launch.order(running.address, "begin")
    assert running.over().state == "done"


def test_nothing_is_answered_without_the_token(demo_lab: Any, conduct: Conduct) -> None:
    running = conduct(short_plan(demo_lab), auto=None)
    address = running.address
    assert httpx.get(address.url("/board")).status_code == 401
    assert httpx.get(address.url("/board"), headers={"Authorization": "Bearer wrong"}).status_code == 401
    assert httpx.post(address.url("/stop"), json={}).status_code == 401
    assert httpx.get(address.url("/docs")).status_code == 401
    assert httpx.get(address.url("/docs"), headers=address.headers).status_code in (404, 405)
    assert httpx.get(address.url("/board"), headers=address.headers).status_code == 200
    # Loopback only: the port is not bound on other addresses.
    lines = Path("/proc/net/tcp").read_text().splitlines()[1:]
    listening = [w.split()[1] for w in lines if w.split()[3] == "0A" and w.split()[1].endswith(f":{address.port:04X}")]
    assert listening in ([f"0100007F:{address.port:04X}"], [])
    from websockets.exceptions import WebSocketException
    from websockets.sync.client import connect

    url = f"ws://127.0.0.1:{address.port}/live"
    with pytest.raises(WebSocketException), connect(url) as refused:
        refused.recv(timeout=5)
    with connect(url, additional_headers=address.headers) as live:
        assert json.loads(live.recv(timeout=10))["title"] == "Comparison, GA-11"
    note = next(iter(Path(os.environ["LUCID_ANVIL_RUNS"]).glob(f"{address.pid}.json")))
    assert note.stat().st_mode & 0o077 == 0


def test_a_second_take_does_not_write_over_the_first(demo_lab: Any, conduct: Conduct) -> None:
    plan = short_plan(demo_lab)
    conduct(plan).over()
    before = (plan.parent / "take" / "events.jsonl").read_bytes()
    board = conduct(plan, name="take").over()
    assert board.state == "failed"
    assert "exists already" in (board.message or "")
    assert (plan.parent / "take" / "events.jsonl").read_bytes() == before


def test_the_recorder_can_be_read_at_any_moment(tmp_path: Path) -> None:
    rows = [{"label": "a", "unit": "V", "sensitivity": 10.0, "sensor": "X"}, {"label": "b", "unit": "V"}]
    recorder = Recorder(tmp_path / "t", rows, 1000.0, 100)
    for i in range(12):
        recorder.write(np.full((2, 100), float(i)))
    recorder.event("mark", t=0.3, text="ü")
    half = read(tmp_path / "t" / "raw.h5")
    assert half.channels[0].length >= 1000
    assert half.channels[0].meta["sensor"] == "X"
    assert half.channel("b").samples(950, 1000).tolist() == [9.0] * 50
    assert half.marks[0]["text"] == "ü"
    recorder.close(status="done", reason=None)
    assert read(tmp_path / "t" / "raw.h5").channels[0].length == 1200
    with pytest.raises(OSError):
        Recorder(tmp_path / "t", rows, 1000.0, 100)
