"""Doors, orders, runs, locks, ends of runs: what may not happen to a run, and what may not be lost of it."""

from __future__ import annotations

import json
import os
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import httpx
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.conftest import Running, short_plan

from lucid_anvil.cli import CUT, FAULT, OPEN, app
from lucid_anvil.core.errors import BadInput
from lucid_anvil.engine import launch, settling
from lucid_anvil.engine.notes import RigLock, put_note
from lucid_anvil.engine.nursery import PLACE
from lucid_anvil.engine.preparing import check_space, prepare
from lucid_anvil.engine.recorder import Recorder
from lucid_anvil.engine.running import Outcome, run_plan
from lucid_anvil.formats.hdf5file import read_events
from lucid_anvil.lab.hashes import digest, wrong
from lucid_anvil.lab.takes import Take, claim_take_folder
from lucid_anvil.protocol.orders import ORDERS, order_of
from lucid_anvil.rig.model import Rig, load_rig

Conduct = Callable[..., Running]
LONG = {"dwell": "3 s", "start": "125 Hz", "stop": "1000 Hz", "steps_per_octave": 1}


def driven(board: Any) -> bool:
    return board.state == "running" and board.live.get("stage") == "measuring"


# --- orders --------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("name", "body", "word"),
    [("hold", {"t": 1}, "t"), ("level", {"by": "abc"}, "by"), ("level", {}, "by"), ("level", {"by": float("nan")}, "by"),
     ("mark", {"order": "stop", "text": "x"}, "order"), ("trigger", {"level": float("inf")}, "level"),
     ("slope", {"rising": "up"}, "rising"), ("overrule", {"number": 0}, "number"), ("sign", [], "object"),
     ("mark", {"text": "x" * 301}, "text"), ("dance", {}, "dance")],
)  # fmt: skip
def test_an_order_that_can_not_be_is_refused_with_what_is_wrong(name: str, body: Any, word: str) -> None:
    with pytest.raises(BadInput, match=word):
        order_of(name, body)


json_like = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=20),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=8), inner, max_size=4),
    max_leaves=8,
)


@given(st.sampled_from(sorted(ORDERS)), json_like)
def test_any_body_is_an_order_or_a_sentence(name: str, body: Any) -> None:
    try:
        made = order_of(name, body)
    except BadInput as problem:
        assert "\n" not in str(problem)
        return
    assert made["order"] == name and set(made) == {"order", *ORDERS[name].model_fields}


# --- the door ------------------------------------------------------------------------------------------------------


def test_a_door_under_attack_leaves_the_run_alone(
    demo_lab: Any, conduct: Conduct, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Great bodies, wrong tokens, idle and slow ones, wrong orders; then the door itself is killed: the run goes on."""
    monkeypatch.delenv(PLACE)  # the door is found by its own command line
    running = conduct(short_plan(demo_lab, {**LONG, "dwell": "6 s"}))
    address = running.address
    running.wait(driven)
    idle = [socket.create_connection(("127.0.0.1", address.port)) for _ in range(100)]
    with socket.create_connection(("127.0.0.1", address.port)) as slow:
        slow.sendall(f"POST /mark HTTP/1.1\r\nHost: 127.0.0.1:{address.port}\r\nAuthorization: Bearer {address.token}\r\n"
                     "Content-Length: 400\r\n\r\n{".encode())  # fmt: skip
        big = httpx.post(address.url("/mark"), content=b'{"text": "' + b"x" * 5_000_000 + b'"}')
        assert big.status_code == 401
        assert httpx.post(address.url("/mark"), content=b"x" * 5000, headers=address.headers).status_code == 413
        for k in range(60):
            assert httpx.get(address.url("/board"), headers={"Authorization": f"Bearer {k}"}).status_code == 401
        for more in ({"Origin": "http://evil.example"}, {"Host": "evil.example"}):
            assert httpx.get(address.url("/board"), headers={**address.headers, **more}).status_code == 403
        assert httpx.put(address.url("/board"), headers=address.headers).status_code == 405
        for name, body in (("hold", b'{"t": 1}'), ("level", b'{"by": "abc"}'), ("mark", b'{"order": "stop"}'),
                           ("mark", b"[" * 4000), ("mark", b"\xff\xfe")):  # fmt: skip
            answer = httpx.post(address.url(f"/{name}"), content=body, headers=address.headers)
            assert answer.status_code == 422 and answer.json()["detail"], (name, body[:20])
        assert fuzzed(address) > 80
        door = _door_of(running.process.pid)
        os.kill(door, signal.SIGKILL)
        for one in idle:
            one.close()
    until = time.monotonic() + 30
    while time.monotonic() < until:
        found = [a for a in launch.runs() if a.pid == running.process.pid]
        if found and found[0].port != address.port:
            break
        time.sleep(0.1)
    running.address = found[0]
    board = running.over()
    assert board.state == "done" and board.trip is None, board.message
    assert not [e for e in read_events(running.take / "events.jsonl") if e["kind"] in ("note", "order", "trip")]


def fuzzed(address: Any) -> int:
    """Bodies of every kind to every order of a live run: all but the marks that happen to be right must be refused.
    How many were."""
    count = 0
    with httpx.Client(headers=address.headers) as client:

        @settings(max_examples=120)
        @given(
            st.sampled_from(sorted(ORDERS)), json_like | st.fixed_dictionaries({"by": json_like, "level": json_like})
        )
        def send(name: str, body: Any) -> None:
            nonlocal count
            content = json.dumps(body)
            try:
                order_of(name, json.loads(content))
            except BadInput:
                answer = client.post(address.url(f"/{name}"), content=content)
                assert answer.status_code == 422 and isinstance(answer.json()["detail"], str), (name, content)
                count += 1

        send()
    return count


def _door_of(pid: int) -> int:
    for place in Path("/proc").glob("[0-9]*/cmdline"):
        try:
            words = place.read_bytes().split(b"\0")
            parent = int((place.parent / "stat").read_text().rsplit(")", 1)[1].split()[1])
        except (OSError, ValueError):
            continue
        if b"lucid_anvil.engine.doorman" in words and parent == pid:
            return int(place.parent.name)
    raise AssertionError("no door")


def test_a_note_is_never_readable_by_others(tmp_path: Path) -> None:
    seen: set[int] = set()
    stop = threading.Event()
    folder = tmp_path / "run"

    def look() -> None:
        while not stop.is_set():
            for place in folder.glob(".*") if folder.exists() else ():
                try:
                    seen.add(place.stat().st_mode & 0o777)
                except OSError:
                    continue

    thread = threading.Thread(target=look)
    thread.start()
    for _ in range(200):
        put_note(folder / "door.json", {"token": "x" * 2000, "pid": os.getpid()})
    stop.set()
    thread.join()
    assert seen <= {0o600} and (folder / "door.json").stat().st_mode & 0o777 == 0o600
    assert folder.stat().st_mode & 0o777 == 0o700


# --- faces that go away; runs that are found ---------------------------------------------------------------------------


def run_in_a_terminal(plan: Path, take: Path, *more: str) -> tuple[Any, launch.Address]:
    """`lucid-anvil run` as a process of its own, waited for until it drives."""
    command = [sys.executable, "-m", "lucid_anvil.cli", "run", str(plan), "--take", str(take), *more]
    face = subprocess.Popen(command, stderr=subprocess.PIPE, text=True)
    until = time.monotonic() + 60
    while not [a for a in launch.runs() if a.take == str(take)] and time.monotonic() < until:
        time.sleep(0.1)
    (address,) = [a for a in launch.runs() if a.take == str(take)]
    Running(address, face, take).wait(driven)
    return face, address


@pytest.mark.parametrize("number", [signal.SIGHUP, signal.SIGTERM])
def test_a_face_that_goes_away_leaves_a_run_that_is_found(demo_lab: Any, number: signal.Signals) -> None:
    plan = short_plan(demo_lab, {**LONG, "dwell": "30 s"})
    take = plan.parent / "take"
    face, address = run_in_a_terminal(plan, take)
    face.send_signal(number)
    assert face.wait(20) == OPEN and "lucid-anvil watch" in face.stderr.read()
    assert launch.get_board(address).state == "running"
    assert launch.run_named(str(take)).pid == address.pid
    assert app(["stop", str(address.pid)], standalone_mode=False) == 0
    assert app(["watch", str(address.pid)], standalone_mode=False) == CUT
    assert Take(take).status() == "cut"
    launch.order(address, "close")


@pytest.mark.parametrize("how", ["told", "killed"])
def test_a_plan_may_say_that_a_run_does_not_go_on_alone(demo_lab: Any, how: str) -> None:
    plan = short_plan(demo_lab, {**LONG, "dwell": "60 s"}, {"front_end": {"patience": "8 s"}})
    plan.write_text(plan.read_text() + "when_alone: ease down\n")
    take = plan.parent / "take"
    face, address = run_in_a_terminal(plan, take, "--pace", "real")
    face.send_signal(signal.SIGHUP if how == "told" else signal.SIGKILL)
    face.wait(20)
    until = time.monotonic() + 60  # nobody may look meanwhile: looking is what is missed
    while Take(take).status() == "interrupted" and time.monotonic() < until:
        time.sleep(0.2)
    assert "nobody watches" in str(Take(take).reason()) and Take(take).status() == "cut"
    launch.order(address, "close")


def test_two_takes_are_never_one(tmp_path: Path) -> None:
    made: list[Path] = []
    threads = [threading.Thread(target=lambda: made.append(claim_take_folder(tmp_path))) for _ in range(12)]
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    assert len({*made}) == 12 and all(p.is_dir() for p in made)


def test_a_rig_belongs_to_one_run(demo_lab: Any, tmp_path: Path) -> None:
    rig = tmp_path / "a.rig.yaml"
    first = RigLock(rig, "")
    first.take("run 17 (plan x)")
    with pytest.raises(BadInput, match="held by run 17"):
        RigLock(rig, "").take("me", 0.2)
    RigLock(tmp_path / "b.rig.yaml", "").take("me", 0.2)
    first.free()
    again = RigLock(rig, "")
    again.take("run 18", 0.2)
    again.free()


def test_a_second_run_on_one_rig_is_told_who_holds_it(demo_lab: Any, conduct: Conduct) -> None:
    plan = short_plan(demo_lab, {**LONG, "dwell": "20 s"})
    running = conduct(plan)
    running.wait(driven)
    with pytest.raises(BadInput, match=f"held by run {running.process.pid}"):
        run_plan(plan, None, "fast", None, "T.T.", print)
    assert not list(plan.parent.glob("take-*"))


# --- the end of a run ------------------------------------------------------------------------------------------------


def test_a_disk_without_room_refuses_before_it_begins(demo_lab: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    plan = short_plan(demo_lab, LONG)
    prepared = prepare(plan)
    check_space(prepared, plan.parent / "not" / "yet")
    real = os.statvfs(plan.parent)

    class Full:
        f_bavail, f_frsize = 100, real.f_frsize

    monkeypatch.setattr(os, "statvfs", lambda _: Full)
    with pytest.raises(BadInput, match=r"needs \d+ MB and 0 MB are free"):
        run_plan(plan, None, "fast", None, "T.T.", print)
    assert not list(plan.parent.glob("take-*"))


def test_a_record_that_breaks_off_is_kept_as_far_as_it_goes(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    recorder = Recorder(
        tmp_path, [{"label": "a", "unit": "V"}, {"label": "i", "unit": "A", "per_volt": 10.0}], 1000.0, 100
    )
    for k in range(10):
        recorder.write(np.full((2, 100), float(k)))
    recorder.event("mark", value=float("nan"), top=float("inf"))

    def full(*_: Any) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(type(recorder), "flush", full)
    with pytest.raises(OSError):
        for _ in range(10):
            recorder.write(np.ones((2, 100)))
    recorder.broken = "full"
    recorder.write(np.ones((2, 100)))
    recorder.close(status="cut", reason="full")
    assert json.loads((tmp_path / "events.jsonl").read_text().splitlines()[0]) == {
        "kind": "mark",
        "value": None,
        "top": None,
    }
    record = Take(tmp_path).recording()
    assert record.channels[0].length == 1000 and record.channel("i").samples()[150] == 10.0
    assert record.channel("i").unit == "A"
    attrs = record.meta["file"].attrs
    assert attrs["format"] == b"lucid-anvil-raw" and attrs["version"] == 1 and attrs["program"].startswith(b"Lucid")
    assert attrs["date"]


def test_a_ledger_that_is_gone_costs_no_run(demo_lab: Any) -> None:
    plan = short_plan(demo_lab)
    rows = (demo_lab.folder / "lab.yaml").read_text()
    (demo_lab.folder / "lab.yaml").write_text(rows + "\nledger: sqlite:////nowhere/at/all/ledger.sqlite\n")
    done = run_plan(plan, None, "fast", None, "T.T.", print)
    assert done.status == "done" and done.finding is not None
    with pytest.raises(BadInput, match="ledger"):
        settling.settle(Take(done.take))
    (demo_lab.folder / "lab.yaml").write_text(rows)
    assert any("ledger" in line for line in settling.settle(Take(done.take)))
    assert settling.settle(Take(done.take)) == []


def test_a_killed_run_is_settled(demo_lab: Any, conduct: Conduct) -> None:
    import h5py

    running = conduct(short_plan(demo_lab, LONG))
    running.wait(lambda b: len(b.points) >= 1)
    take = Take(running.take)
    assert settling.running(take) and "still goes on" in settling.settle(take)[0]
    begin = next(e for e in take.events() if e["kind"] == "begin")["pids"]
    for pid in begin.values():
        os.kill(pid, signal.SIGKILL)
    running.process.wait(10)
    with pytest.raises(OSError):
        h5py.File(take.folder / "raw.h5", "r")
    with (take.folder / "events.jsonl").open("a") as file:
        file.write('{"kind": "to')
    said = settling.settle(take)
    assert len(said) >= 2 and take.status() == "interrupted"
    with h5py.File(take.folder / "raw.h5", "r") as file:
        assert len(file["channels"]) == len(take.recording().channels) and file["channels/000"].shape[0] > 1000
    finding = take.finding()
    assert finding is not None and not finding.complete and finding.verdict == "open"
    assert any("no end" in m for m in finding.missing) and any("frequencies" in m for m in finding.missing)
    assert wrong(take) is None and app(["verify", str(take.folder)], standalone_mode=False) == 0


def test_a_record_that_was_changed_is_said(demo_lab: Any) -> None:
    done = run_plan(short_plan(demo_lab), None, "fast", None, "T.T.", print)
    take = Take(done.take)
    raw = take.folder / "raw.h5"
    assert wrong(take) is None and done.finding is not None and done.finding.complete
    raw.chmod(0o644)
    held = bytearray(raw.read_bytes())
    held[len(held) // 2] ^= 1
    raw.write_bytes(held)
    from lucid_anvil.engine.evaluating import evaluate_take

    assert (
        "hash differs" in str(wrong(take))
        and digest(raw) != next(e for e in take.events() if e["kind"] == "end")["sha256"]
    )
    again = evaluate_take(take)
    assert again.verdict == "open" and "hash differs" in again.missing[0]
    assert app(["verify", str(demo_lab.folder)], standalone_mode=False) == 1


def test_exit_codes_of_runs_that_fail_outside(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    from lucid_anvil.engine import running

    monkeypatch.setattr(
        running, "run_plan", lambda *_: Outcome(tmp_path, "failed", "The load bank can't be reached", None)
    )
    plan = tmp_path / "x.plan.yaml"
    plan.write_text("lucid-anvil-plan: 1\ntitle: t\nsteps:\n- {method: sine-sweep}\n")
    assert app(["run", str(plan)], standalone_mode=False) == FAULT
    (tmp_path / "events.jsonl").write_text("")
    assert app(["run", str(plan)], standalone_mode=False) == CUT


# --- going on --------------------------------------------------------------------------------------------------------


def test_a_comparison_goes_on_and_is_one_series(demo_lab: Any) -> None:
    from lucid_anvil.lab.textfiles import dump_yaml, load_yaml

    plan = short_plan(demo_lab, {"insert": True})
    whole = run_plan(plan, None, "fast", plan.parent / "whole", "T.T.", print).finding
    rig = demo_lab.folder / "rigs" / "comparison.rig.yaml"
    data = load_yaml(rig)
    data["standin"]["faults"] = [{"at": "9 s", "kind": "overload", "channel": "reference", "size": 1}]
    rig.write_text(dump_yaml(data))
    cut = run_plan(plan, None, "fast", plan.parent / "cut", "T.T.", print)
    assert cut.status == "cut" and cut.finding is not None and not cut.finding.complete
    assert cut.finding.verdict in ("open", "outside")
    data["standin"]["faults"] = []
    rig.write_text(dump_yaml(data))
    done = run_plan(plan, None, "fast", plan.parent / "rest", "T.T.", print, plan.parent / "cut")
    assert done.status == "done" and done.finding is not None and whole is not None
    assert done.finding.complete and done.finding.verdict == whole.verdict
    a, b = whole.curve("sensitivity"), done.finding.curve("sensitivity")
    assert a.x == b.x and np.allclose(a.y, b.y, rtol=2e-4)


# --- guards that make no sense -----------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("guard", "word"),
    [({"watch": "late"}, "always on"), ({"watch": "stroke", "channel": "force"}, "measures force"),
     ({"watch": "current"}, "no channel measures current"), ({"watch": "load_heat"}, "load bank"),
     ({"watch": "acceleration", "channel": "nobody"}, "nobody")],
)  # fmt: skip
def test_a_guard_that_makes_no_sense_is_refused_with_the_cure(demo_lab: Any, guard: dict[str, Any], word: str) -> None:
    data = load_rig(demo_lab.folder / "rigs" / "hammer.rig.yaml").model_dump(by_alias=True, exclude_none=True)
    with pytest.raises(ValueError, match=word):
        Rig.model_validate({**data, "guards": [guard]})
