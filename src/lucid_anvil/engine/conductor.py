"""The conductor: runs the method, the recorder and the door, and talks to the keeper. A process of its own."""

from __future__ import annotations

import argparse
import contextlib
import json
import os
import queue
import signal
import struct
import subprocess
import sys
import threading
import time
import traceback
from collections.abc import Mapping
from dataclasses import asdict
from pathlib import Path
from typing import Any

import h5py  # noqa: F401  (imported before the bench runs, for the recorder)
import numpy as np

from ..contracts.method import LEAD, Want
from ..core.errors import BadInput
from ..core.signal.sinefit import Floats
from ..lab.takes import Take
from ..protocol import chain
from ..protocol.messages import Board, Trip
from ..protocol.orders import order_of
from ..rig.device import Wire, prefer, wire_pair
from . import ending, nursery
from .door import Door
from .notes import RigLock, own_note
from .preparing import Prepared, check_space, prepare
from .recorder import Recorder
from .replanning import READING, Replanning, kept_of
from .ring import Ring
from .settling import close_take
from .showing import Showing
from .taking import make_take, unmake_take
from .turns import Turns
from .walkround import Sensed, WalkRound

LINGER = 1800.0
"""s that a finished conductor waits for faces."""
WISHES = ("hold", "go", "level", "skip", "trigger", "slope", "overrule", "drive", "jog", "row")
"""Orders that are the method's to heed."""
ANSWER = {"real": 15.0, "fast": 60.0}
"""s of wall time after which a keeper that says nothing is taken for hung, by pace: longer than it waits itself."""
START = 60.0
"""s of wall time that keeper and device may take to come up."""
IDLE = 0.01
"""s that a block lasts at least while a person walks round in simulated time: waiting must not heat the machine."""
ALONE = 15.0
"""s without a face after which a run that shall not go on alone eases down"""
FORSAKEN = 600.0
"""s after which a walk-round that no face looks at any more is ended; nothing is driven in it."""


class Conductor:
    """One run from walk-round to finding."""

    def __init__(
        self,
        prepared: Prepared,
        take: Path,
        pace: str,
        note: Path,
        auto: str | None,
        forsaken: float = FORSAKEN,
        resume: Path | None = None,
    ) -> None:
        """`take` folder to make; `note` where the door is told; `auto` who signs everything and begins at once."""
        self.prepared, self.take_folder, self.pace, self.auto = prepared, take, pace, auto
        self.block, self.rate = prepared.facts.block, prepared.facts.rate
        if resume is not None:
            # What came in until the drive was at zero belongs to the record that is read together with this one.
            close_take(Take(resume))
        self.position = Take(resume).position() if resume is not None else None
        self.resumed = resume
        self.roles = [c.role for c in prepared.rig.channels]
        self.board = Board(title=prepared.plan.title, pace=pace, plan=str(prepared.plan_file))
        self.showing = Showing(self.board, self.roles, self.block, self.rate)
        self.walk = WalkRound(prepared)
        self.sensed = Sensed()
        self.recorder: Recorder | None = None
        self.first = 0
        """Number of the block with which the take begins."""
        self.trip: Trip | None = None
        self.why: str | None = None
        self.began_wall = 0.0
        self.tail = 0
        """Blocks still to record after the end."""
        self.status = "done"
        self.made: Recorder | None = None
        self.leaving = False
        """The loop is told to end. What faces are shown says so only when the take is closed and read."""
        self.dismissed = False
        self.replanning = Replanning()
        self.begin_asked = False
        """Begin was pressed while the plan was still being read again"""
        self.forsaken = forsaken
        self.looked_at = time.monotonic()
        # Slow work is done before the bench runs: nothing may keep a block waiting later.
        self.kept = kept_of(prepared)
        sys.setswitchinterval(5e-4)
        self.lock = RigLock(prepared.rig_file, device_of(prepared.rig))
        self.lock.take(f"run {os.getpid()} (plan {prepared.plan_file})")
        self.start_keeper()
        self.turns = Turns(pace, prepared.method.heavy)
        facts = {"plan": str(prepared.plan_file.resolve()), "take": str(take.resolve())}
        self.door = Door([note, own_note()], facts, self._looked, self._shut_out)
        self.showing.door = self.door.publish
        self.door.publish(self.showing.shown)
        for number in (signal.SIGTERM, signal.SIGHUP):
            signal.signal(number, self._asked_to_end)

    def _looked(self) -> None:
        """A face is there."""
        self.looked_at = time.monotonic()

    def _shut_out(self, why: str) -> None:
        """No door can be kept open, so nobody could stop the run: it eases down."""
        self.door.orders.put(order_of("stop", {"why": f"no window can reach the run ({why})"[:300]}))

    def _asked_to_end(self, number: int, _frame: Any) -> None:
        name = signal.Signals(number).name
        if number == signal.SIGTERM:
            self.dismissed = True  # once the take is read nobody is waited for
        self.door.orders.put(order_of("stop", {"why": f"the run was told to end by the system ({name})"}))

    # --- processes -------------------------------------------------------------------------------------------

    def start_keeper(self) -> None:
        """The keeper, on its own copy of the rig as it stands now."""
        work = self.take_folder
        work.mkdir(parents=True, exist_ok=True)
        ours, theirs = wire_pair()
        self.ring = Ring(len(self.roles) + 1, self.block)
        fd = theirs.fileno()
        self.keeper = nursery.start("lucid_anvil.engine.keeper", [
            "--fd", str(fd), "--rig", str(self.prepared.rig_file), "--ring", self.ring.name, "--pace", self.pace,
            "--log", str(work / "guards.jsonl"),
            "--sensitivities", json.dumps(dict(self.prepared.facts.sensitivity)),
            "--control", json.dumps(self.prepared.control()),
        ], [fd])  # fmt: skip
        theirs.close()
        self.wire: Wire = ours

    def run(self) -> None:
        """Until the run is over and every face has had time to look."""
        try:
            self._loop()
        except Exception as problem:
            traceback.print_exc()
            self._fail(f"{type(problem).__name__}: {problem}")
        finally:
            with contextlib.suppress(OSError):
                self.wire.send(b"Q")
        self._let_go()
        self._finish()
        self._linger()
        self.door.close()
        self.turns.close()
        with contextlib.suppress(subprocess.TimeoutExpired):
            self.keeper.wait(3.0)
        self.ring.close()

    def _let_go(self) -> None:
        """The devices are free for the next run once their keeper is gone."""
        with contextlib.suppress(subprocess.TimeoutExpired):
            self.keeper.wait(10.0)
        self.lock.free()

    def _fail(self, why: str) -> None:
        self.status, self.why = "failed", why
        self.board.message = why

    # --- block by block --------------------------------------------------------------------------------------

    def _loop(self) -> None:
        patience = START
        while True:
            if not self.wire.ready(patience):
                self._fail("the guards do not answer: the drive is taken down by the device itself")
                return
            try:
                _, payload = self.wire.receive()
            except EOFError:
                if not self.leaving:
                    self._fail(self.why or "the guards are gone: the drive is taken down by the device itself")
                return
            message = json.loads(payload)
            if "hello" in message:
                self.pids = {"keeper": message["hello"], "device": message["device"]}
                self._set(state="walk-round")
                continue
            if "identity" in message:
                self.sensed.sheets = message["identity"]
                self.board.identities = message["identity"]
                continue
            if "who" in message:
                self.board.who = [(str(name), str(said), float(took)) for name, said, took in message["who"]]
                continue
            if "dropout" in message:
                self._dropped(message["dropout"])
                continue
            if "lost" in message:
                self._fail(message["lost"])
                return
            if "late" in message:
                self._tripped(
                    Trip("late", "Drive block late", "cut", None, 0.0, message["late"], 0.0, 0.0, "s"), message["late"]
                )
                continue
            patience = ANSWER[self.pace]
            self._one_block(message)
            if self.leaving:
                return

    def _one_block(self, message: dict[str, Any]) -> None:
        """Answer one input block."""
        index = int(message["i"])
        rows = self.ring.input(index)
        samples = {role: rows[i] for i, role in enumerate([*self.roles, "drive"])}
        drive, expect, bounds = self._drive_for(index, samples, message)
        self.ring.put_drive(index + LEAD, drive)
        none = float("nan")
        with contextlib.suppress(OSError):
            self.wire.send(
                b"D",
                struct.pack(
                    "<qdddd", index + LEAD, none if expect is None else expect, *(bounds or (none, none, none))
                ),
            )
        if self.board.state == "walk-round" and self.pace == "fast" and self.auto is None:
            time.sleep(IDLE)
        if self.recorder:
            self._record(rows)
        for held in message["trips"]:
            self._tripped(Trip(**held), index)
        bias = {r: b for r, b in zip(self.roles, message["bias"], strict=True) if b is not None}
        if self.board.state == "walk-round":
            self.sensed.learn(samples, bias, message["room"][0], int(message.get("interlock", 0)))
            self.sensed.instruments, self.sensed.trouble = message.get("instruments"), message.get("trouble")
        self.showing.bias = bias
        self._conditions(index, message.get("instruments"))
        self._take_orders()
        self.showing.hear(rows)
        if self.showing.due():
            if self.board.state == "walk-round":
                self.board.checks = self.walk.states(self.sensed)
            if self.recorder:
                self.board.t = self.recorder.seconds
                self.board.speed = self.board.t / max(time.monotonic() - self.began_wall, 1e-3)
            self.showing.publish(self.prepared, message)
        if not self.leaving:
            self._advance(index, bool(message["zero"]))

    def _record(self, rows: Floats) -> None:
        """A record that can't be written ends the run: what is there is kept, and read."""
        assert self.recorder is not None
        try:
            self.recorder.write(rows, self.turns.keeps)
        except (OSError, RuntimeError) as problem:
            if self.recorder.broken is None:
                self.recorder.broken = str(problem)
                why = f"the record can't be written any more ({ending.reason(problem)})"
                with contextlib.suppress(OSError):
                    self.wire.send_json(b"S", {"why": why, "action": "ease", "guard": "record"})
                self._tripped(Trip("record", why, "ease", None, 0.0, 0, 0.0, 0.0, ""), None)

    def _dropped(self, why: str) -> None:
        """The front end lost samples: what was being read does not count."""
        self.board.events.append(why)
        if self.recorder is not None:
            self.recorder.event("dropout", t=self.recorder.seconds, text=why)

    def _conditions(self, index: int, shown: dict[str, Any] | None) -> None:
        """What the instruments show goes into the record whenever it is new."""
        if shown is None or shown == self.board.instruments:
            return
        self.board.instruments = shown
        if self.recorder is not None and self.board.state == "running":
            t = max(index - self.first, 0) * self.block / self.rate
            self.recorder.event("conditions", t=t, **{k: v for k, v in shown.items() if k != "meter"})

    def _drive_for(
        self, index: int, samples: dict[str, Floats], message: dict[str, Any]
    ) -> tuple[Floats, float | None, tuple[float, float, float] | None]:
        """Ask the method, if it is running, for the drive of block index + 2."""
        if self.board.state != "running" or not self.turns.playing:
            return np.zeros(self.block), None, None
        local = index - self.first
        if local < 0:
            return np.zeros(self.block), None, None
        if self.auto and self.prepared.rig.is_standin and self.board.live.get("stage") == "asking":
            self.turns.wishes.append({"order": "go"})  # nobody needs to turn a stand-in's knob
        start = local * self.block / self.rate
        want = self.turns.turn(local, start, samples, message["overload"], message.get("instruments"))
        if want is None:
            self._set(state="easing")
            self.tail = LEAD + 2
            return np.zeros(self.block), None, None
        self._heed(want, local)
        return want.drive, want.expect, want.bounds

    def _heed(self, want: Want, local: int) -> None:
        """Marks, pictures and settings that came with a turn."""
        assert self.recorder
        for mark in want.marks:
            self.recorder.event(**{**mark, "kind": mark["kind"]})
        for row in want.rows:
            self.recorder.row(row)
        if want.position is not None:
            self.recorder.event("position", t=local * self.block / self.rate, **want.position)
        if want.live is not None:
            self.showing.live(want.live)
        if want.settings:
            for name, value in want.settings.items():
                self.wire.send_json(b"C", {"name": name, "value": value})
        if want.chain is not None:
            self.wire.send(b"M", chain.pack(want.chain))
        if want.trip is not None:
            self._asked_for_trip(want.trip, local)

    def _asked_for_trip(self, asked: Mapping[str, Any], local: int) -> None:
        """The method wants the drive down: the keeper ramps it, whatever the method does next."""
        with contextlib.suppress(OSError):
            self.wire.send_json(b"S", {"why": asked["label"], "action": asked["action"], "guard": asked["guard"]})
        self._tripped(
            Trip(
                asked["guard"], asked["label"], asked["action"], asked.get("channel"), 0.0, local, asked["value"],
                asked["limit"], asked["unit"],
            ),
            local + self.first,
        )  # fmt: skip

    def _advance(self, index: int, zero: bool) -> None:
        """Move from state to state."""
        if self.board.state == "walk-round" and self.auto and index % 10 == 9:
            for check in self.prepared.plan.walk_round:
                self.walk.sign(check.key, self.auto)
            self._begin()
            if self.board.state == "walk-round" and index > 60:
                missing = [c for c in self.walk.states(self.sensed) if not c.done]
                self.why = "walk-round: " + "; ".join(f"{c.text}: {c.why}" for c in missing)
                self.status = "refused"
                self.board.message = self.why
                self._leave()
                return
        if self.board.state == "walk-round" and time.monotonic() - self.looked_at > self.forsaken:
            self.status, self.why, self.dismissed = "closed", "no face looked at the walk-round any more", True
            self._leave()
            return
        if self.board.state == "running" and self.looked_at < time.monotonic() - ALONE:
            self._alone()
        if self.board.state == "preparing":
            self._start_running(index)
        if self.board.state == "easing":
            if self.trip is not None and not zero:
                return
            self.tail -= 1
            if self.tail <= 0:
                self._leave()

    def _alone(self) -> None:
        """No face has looked for a while: what the plan says."""
        if self.prepared.plan.when_alone == "ease down":
            why = "nobody watches any more, and the plan says to ease down then"
            self.door.orders.put(order_of("stop", {"why": why}))
        self.looked_at = time.monotonic()

    def _leave(self) -> None:
        """The loop ends with this block."""
        with contextlib.suppress(OSError):
            self.wire.send(b"Q")
        self.leaving = True

    # --- orders ----------------------------------------------------------------------------------------------

    def _take_orders(self) -> None:
        self._take_up_plan()
        with contextlib.suppress(queue.Empty):
            while True:
                order = self.door.orders.get_nowait()
                name = str(order.get("order"))
                if name == "sign":
                    self.walk.sign(str(order.get("key")), str(order.get("by", "")))
                elif name == "begin":
                    self._begin()
                elif name == "stop":
                    self._stop(str(order.get("why", "stopped by the operator")))
                elif name == "mark" and self.recorder:
                    text = str(order.get("text", "mark"))[:300]
                    self.recorder.event("note", t=self.recorder.seconds, text=text)
                    self.board.events.append(f"mark at {self.recorder.seconds:.1f} s: {text}")
                elif name in WISHES and self.board.state == "running":
                    self.turns.wishes.append(order)
                    if self.recorder and name != "jog":  # many a second; the method marks when it moves
                        self.recorder.event("order", t=self.recorder.seconds, **order)
                elif name == "replan":
                    self._replan()
                elif name == "close":
                    self.dismissed = True
                    if self.board.state in ("walk-round", "starting"):
                        self.status, self.why = "closed", "closed before it began"
                        self._leave()

    def _replan(self) -> None:
        """The plan file was changed. Before the run begins it is read again; later it is said."""
        if self.board.state in ("starting", "walk-round"):
            self.replanning.ask(self.prepared.plan_file, self.prepared.rig_file)
            self.board.unread = self.replanning.unread
        else:
            self.board.events.append("The plan was changed after Begin: this run goes on as it began.")

    def _take_up_plan(self) -> None:
        """A plan that was read again takes the place of the old one, between two blocks: one loop owns the wire. What
        was signed stays."""
        taken = self.replanning.taken()
        self.board.unread = self.replanning.unread
        if taken is not None and self.board.state == "walk-round":
            prepared, walk, kept = taken
            walk.signed = self.walk.signed
            self.prepared, self.walk, self.kept = prepared, walk, kept
            # Another sensor, another control point: the guards see what the method sees.
            with contextlib.suppress(OSError):
                self.wire.send_json(
                    b"K", {"sensitivities": dict(prepared.facts.sensitivity), "control": prepared.control()}
                )
        if self.begin_asked and self.board.unread != READING:
            self._begin()

    def _begin(self) -> None:
        """From the walk-round to the run, by the plan as its file stands; none where that can't be run."""
        self.begin_asked = self.board.unread == READING
        if self.begin_asked or self.board.state != "walk-round":
            return
        if self.board.unread or not all(c.done for c in self.walk.states(self.sensed)):
            return
        self.board.state = "preparing"
        self.checks_kept = [asdict(c) for c in self.walk.states(self.sensed)]
        if self.pace == "real":
            # Files take longer than a block; the bench goes on at zero drive meanwhile.
            self.preparation = threading.Thread(target=self._prepare_take, daemon=True)
            self.preparation.start()
        else:
            self._prepare_take()

    def _prepare_take(self) -> None:
        try:
            check_space(self.prepared, self.take_folder)
            self.made = make_take(self.take_folder, self.prepared, self.kept, self.roles)
        except (OSError, BadInput) as problem:
            self.why = str(problem)

    def _start_running(self, index: int) -> None:
        """The take's files are there: from the next block on the method runs."""
        if self.made is None:
            if self.why:
                self.status = "failed"
                self.board.message = self.why
                self._leave()
            return
        self.recorder = self.made
        with contextlib.suppress(OSError):
            self.wire.send_json(b"A", {"first": index + 1})
        self.recorder.event(
            "begin", t=0.0, wall=time.time(), pace=self.pace, checks=self.checks_kept,
            temperature=self.sensed.temperature, humidity=self.board.room.get("humidity"),
            pids={**self.pids, "conductor": os.getpid()},
        )  # fmt: skip
        self.first = index + 1
        self.began_wall = time.monotonic()
        self.turns.begin(self.prepared, self.position)
        if self.resumed is not None:
            folder = os.path.relpath(self.resumed.resolve(), self.take_folder.resolve())
            self.recorder.event("continued", t=0.0, take=self.resumed.name, folder=folder, position=self.position)
        self._set(state="running", take=str(self.take_folder))

    def _stop(self, why: str) -> None:
        """F12: tell the keeper, and go down with it."""
        if self.board.state not in ("running",):
            if self.board.state in ("walk-round", "preparing"):
                self.status, self.why = "closed", why
                self._leave()
            return
        with contextlib.suppress(OSError):
            self.wire.send_json(b"S", {"why": why, "action": "ease"})
        self._tripped(Trip("operator", why, "ease", None, 0.0, 0, 0.0, 0.0, ""), None)

    def _tripped(self, trip: Trip, index: int | None) -> None:
        if self.recorder is None:
            return
        t = self.recorder.seconds if index is None else (index - self.first) * self.block / self.rate
        trip = Trip(**{**asdict(trip), "t": max(t, 0.0)})
        sentence = trip.label if trip.guard in ("operator", "late") or not trip.limit else trip.sentence
        self.recorder.event("trip", **{**asdict(trip), "sentence": sentence})
        if self.trip is None:
            self.board.events.append(sentence)
        if trip.action == "hold":
            self.turns.wishes.append({"order": "hold"})
        if trip.action not in ("cut", "ease") or self.trip is not None:
            return
        self.trip, self.status, self.why = trip, "cut", sentence
        self.board.trip = {**asdict(trip), "sentence": sentence}
        self.turns.end()
        self.tail = round(0.5 * self.rate / self.block) + LEAD
        self._set(state="easing")

    def _set(self, **changes: Any) -> None:
        self.showing.set(**changes)

    # --- the end ---------------------------------------------------------------------------------------------

    def _finish(self) -> None:
        """Close the take, read it, keep the finding, tell the ledger which sensors it rests on."""
        if self.recorder is None:
            if self.status == "done":
                self.status = "closed"
            unmake_take(self.take_folder)
            self._set(state="failed" if self.status in ("failed", "refused") else "done", message=self.why)
            return
        if self.status == "failed":
            ending.put_at_the_end(self.recorder, self.take_folder, self.pids.get("device", 0), self.why)
        undone = ending.close_record(self.recorder, self.status, self.why)
        self._set(state="reading")
        made, said, more = ending.read_and_tell(Take(self.take_folder))
        if made is not None:
            self.board.finding, self.board.verdict = str(made[0]), made[1].verdict
        self.board.message = said or self.board.message
        if undone := [*undone, *more]:
            self.board.message = ending.left_for_later(undone, self.take_folder)
            self.board.events.append(self.board.message)
        # Before anybody is told that it is done: whoever closes the bench then must not cut it off.
        for said in ending.set_off(self.take_folder):
            self.board.message = said
            self.board.events.append(said)
        self._set(state="failed" if self.status == "failed" else "done", message=self.why or self.board.message)

    def _linger(self) -> None:
        until = time.monotonic() + LINGER
        while time.monotonic() < until and not self.dismissed:
            with contextlib.suppress(queue.Empty):
                if self.door.orders.get(timeout=0.5)["order"] == "close":
                    return


def device_of(rig: Any) -> str:
    """Name of a real front end; empty for a stand-in."""
    return "" if rig.is_standin else f"{rig.front_end.driver}:{rig.front_end.card.device}"


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--plan", type=Path, required=True)
    parser.add_argument("--rig", type=Path)
    parser.add_argument("--take", type=Path, required=True)
    parser.add_argument("--pace", choices=("real", "fast"), required=True)
    parser.add_argument("--note", type=Path, required=True)
    parser.add_argument("--auto", default=None)
    parser.add_argument("--forsaken", type=float, default=FORSAKEN)
    parser.add_argument("--resume", type=Path)
    given = parser.parse_args()
    try:
        prepared = prepare(given.plan, given.rig)
        if given.pace == "real":
            prefer(10)
        run = Conductor(prepared, given.take, given.pace, given.note, given.auto, given.forsaken, given.resume)
    except BadInput as problem:
        print(" ".join(str(problem).split()), file=sys.stderr)
        sys.exit(2)
    run.run()


if __name__ == "__main__":
    main()
