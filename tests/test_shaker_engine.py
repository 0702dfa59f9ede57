"""Shaker plans through the real processes: takes, cuts, refusals, orders, going on from a cut."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from lucid_anvil.domains.shaker.planning import stretched_course, swap_sensor
from lucid_anvil.engine import launch
from lucid_anvil.engine.evaluating import evaluate_take
from lucid_anvil.engine.preparing import prepare
from lucid_anvil.engine.running import run_plan
from lucid_anvil.lab.planning import change_step
from lucid_anvil.lab.takes import Take
from lucid_anvil.lab.textfiles import dump_yaml, load_yaml

Start = Callable[..., Any]
QUICK = {"probe": {"period": "1 s"}}


def quick_plan(
    lab: Any, name: str, settings: dict[str, Any] | None = None, faults: list[dict[str, Any]] | None = None
) -> Path:
    """One of the demo's shaker plans, made short."""
    place = lab.jobs / "0412" / "battery-tray" / name / f"{name}.plan.yaml"
    plan = load_yaml(place)
    held = plan["steps"][0]["settings"]
    held["control"] = QUICK
    if name == "sine":
        profile = load_yaml(place.with_name("sine.profile.yaml"))
        profile |= {"start": "20 Hz", "stop": "200 Hz", "segments": [{"acceleration": "12 m/s^2"}],
                    "sweep": {"rate": "40 oct/min"}}  # fmt: skip
        place.with_name("sine.profile.yaml").write_text(dump_yaml(profile))
        held["course"] = [{"sweep": "up"}]
    elif name == "random":
        held["course"] = [{"random": True, "duration": "12 s"}]
    held |= settings or {}
    place.write_text(dump_yaml(plan))
    rig = lab.folder / "rigs" / "shaker.rig.yaml"
    data = load_yaml(rig)
    data["front_end"]["rate"] = "5.12 kHz"  # half the work
    if faults is not None:
        data["standin"]["faults"] = faults
    rig.write_text(dump_yaml(data))
    return place


def test_a_sine_run_leaves_a_take_that_reads_again(demo_lab: Any, conduct: Start) -> None:
    running = conduct(quick_plan(demo_lab, "sine"))
    board = running.over()
    assert board.state == "done" and board.trip is None, board.message
    assert board.verdict == "inside" and board.probe["used"] and board.trace
    take = Take(running.take)
    assert take.status() == "done"
    again = evaluate_take(take)
    assert again.reading("in_tolerance").value == take.finding().reading("in_tolerance").value == 100.0
    assert load_yaml(take.folder / "plan.yaml")["steps"][0]["settings"]["profile"]["kind"] == "sine"
    assert {"probe", "sine", "position"} <= {e["kind"] for e in take.events()}
    ledger = demo_lab.ledger()
    assert any("take" in r["take"] for r in ledger.traces("GA-07"))
    ledger.close()


def test_a_record_travels_with_its_take(demo_lab: Any, conduct: Start) -> None:
    place = quick_plan(demo_lab, "record", {"control": {**QUICK, "passes": 2}})
    running = conduct(place)
    assert running.over().state == "done"
    (place.parent / "deck.csv").unlink()
    assert evaluate_take(Take(running.take)).reading("rms_error").value < 10.0
    assert (running.take / "profile.csv").exists()


@pytest.mark.parametrize(
    ("name", "kind", "guard", "action"),
    [("sine", "open", ("supply",), "cut"), ("sine", "gain_jump", ("abort", "control_lost"), "cut"),
     ("random", "emergency_stop", ("interlock",), "cut"), ("random", "disk_full", ("disk",), "ease"),
     ("record", "amplifier_trip", ("control_lost", "abort"), "cut")],
)  # fmt: skip
def test_faults_are_cut_for_the_right_reason(
    demo_lab: Any, conduct: Start, name: str, kind: str, guard: tuple[str, ...], action: str
) -> None:
    at = 11.0 if name == "random" else 8.2
    fault = {"at": f"{at} s", "kind": kind, "channel": "control", "size": 3.0}
    running = conduct(quick_plan(demo_lab, name, faults=[fault]))
    board = running.over()
    assert board.trip is not None and board.trip["guard"] in guard and board.trip["action"] == action
    take = Take(running.take)
    assert take.status() == "cut" and take.reason() == board.trip["sentence"]
    # The keeper's own log says which block it altered first; the raw record says when the drive was at zero.
    told = next(json.loads(x) for x in (take.folder / "guards.jsonl").read_text().splitlines() if '"trip"' in x)
    assert told["first_altered_block"] <= told["block"] + 2
    drive = take.recording().channel("drive")
    span = 0.02 if action == "cut" else 0.5
    assert board.trip["t"] < drive.duration
    quiet = drive.between(board.trip["t"] + (3 * 400 + 48) / 5120 + span + 0.001, drive.duration)
    assert quiet.size > 0 and not np.any(quiet)
    assert np.any(drive.between(max(board.trip["t"] - 0.5, 0), board.trip["t"]))


def test_going_on_from_where_it_was_cut(demo_lab: Any, conduct: Start) -> None:
    place = quick_plan(demo_lab, "sine", faults=[{"at": "8.8 s", "kind": "overload", "channel": "control"}])
    running = conduct(place)
    running.over()
    position = Take(running.take).position()
    assert position is not None and position["at"] > 0.5
    quick_plan(demo_lab, "sine", faults=[])
    done = run_plan(place, None, "fast", place.parent / "second", "T.T.", print, running.take)
    assert done.status == "done"
    marks = [e for e in Take(done.take).events() if e["kind"] == "sine" and e["law"] == "log"]
    first = 20 * 2 ** (position["at"] * 40 / 60)
    assert marks[0]["frequency"] == pytest.approx(first, rel=1e-6)
    assert any(e["kind"] == "continued" for e in Take(done.take).events())


@pytest.mark.parametrize(("name", "how"), [("random", "killed"), ("record", "stopped")])
def test_going_on_after_a_kill_and_a_stop(name: str, how: str, demo_lab: Any, conduct: Start) -> None:
    place = quick_plan(demo_lab, name)
    running = conduct(place)
    running.wait(lambda b: Take(running.take).position() is not None)
    if how == "killed":
        running.process.kill()
        running.process.wait(10)
    else:
        launch.order(running.address, "stop", why="enough")
        running.over()
        launch.order(running.address, "close")
    done = run_plan(place, None, "fast", place.parent / "second", "T.T.", print, running.take)
    assert done.status == "done" and done.finding is not None, done
    assert done.finding.missing == () and done.finding.verdict != "open"
    alone = evaluate_take(Take(running.take))
    assert not alone.complete and alone.verdict != "inside"


def test_orders_reach_the_method(demo_lab: Any, conduct: Start) -> None:
    running = conduct(quick_plan(demo_lab, "sine", {"course": [{"dwell": "60 Hz", "duration": "60 s"}]}))
    running.wait(lambda b: b.live.get("stage") == "dwell")
    launch.order(running.address, "level", by=-6.0)
    running.wait(lambda b: b.live.get("level_db", 0) < -5.9)
    launch.order(running.address, "skip")
    assert running.over().state == "done"


def test_a_refused_probe_run_is_a_cut(demo_lab: Any) -> None:
    place = quick_plan(demo_lab, "sine", faults=[{"at": "0 s", "kind": "no_output", "channel": "control"}])
    done = subprocess.run(
        [sys.executable, "-m", "lucid_anvil.cli", "run", str(place), "--take", str(place.parent / "t"), "--signed-by", "T.T."],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 3 and "no more than its noise" in " ".join(done.stderr.split())
    assert Take(place.parent / "t").status() == "cut"


def test_plans_are_edited_in_their_own_files(demo_lab: Any) -> None:
    place = quick_plan(demo_lab, "sine")
    profile = load_yaml(place.with_name("sine.profile.yaml"))
    change_step(place, {"profile": {**profile, "stop": "150 Hz"}, "course": [{"sweep": "down"}]})
    assert load_yaml(place.with_name("sine.profile.yaml"))["stop"] == "150 Hz"
    assert load_yaml(place)["steps"][0]["settings"]["profile"] == "sine.profile.yaml"
    assert prepare(place).course()[1].label == "Sweep down 150 → 20 Hz"
    assert stretched_course([{"sweep": "up", "rate": 3}], 0, False, 40.0) == [{"sweep": "up", "duration": "40 s"}]
    assert stretched_course([{"random": True, "each": 1}], 0, True, 7.0)[0]["each"] == "7 s"
    assert stretched_course([{"pause": 1}], 0, False, 9.0) == [{"pause": "9 s"}]


def test_a_swapped_sensor_is_followed_by_units_and_checks(demo_lab: Any) -> None:
    place = quick_plan(demo_lab, "sine")
    before = prepare(place)
    swap_sensor(demo_lab, place, "control", "GA-02")
    after = prepare(place)
    assert after.plan.sensors["control"].serial == "GA-02"
    assert after.facts.sensitivity["control"] == pytest.approx(0.010038, rel=0.01)
    assert after.facts.sensitivity["control"] != before.facts.sensitivity["control"]
    from lucid_anvil.core.errors import BadInput
    from lucid_anvil.engine.walkround import Sensed, WalkRound

    sensed = Sensed(sheets=after.rig.identities())
    state = next(c for c in WalkRound(after).states(sensed) if c.key == "identity")
    assert not state.done and "not known" in state.why
    fine = next(c for c in WalkRound(before).states(sensed) if c.key == "identity")
    assert fine.done and "2 of 3" in fine.why
    with pytest.raises(BadInput, match="microphone"):
        swap_sensor(demo_lab, place, "control", "GM-03")


def test_sheets_come_through_the_front_end(demo_lab: Any, conduct: Start) -> None:
    rig = demo_lab.folder / "rigs" / "shaker.rig.yaml"
    data = load_yaml(rig)
    data["standin"]["sensors"]["GA-07"]["datasheet"]["damaged"] = True
    rig.write_text(dump_yaml(data))
    running = conduct(quick_plan(demo_lab, "sine"), auto=None)
    board = running.wait(
        lambda b: b.state == "walk-round" and any(c.key == "identity" and "checksum" in c.why for c in b.checks)
    )
    assert set(board.identities) == {"control", "response"}
