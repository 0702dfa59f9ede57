"""The keeper: devices, guards and the ramp, in a process of its own, and nothing else.

Each block: read, scale, guard, hand on, take the next drive block, ramp or limit, write. A drive block that does
not come in time means ramp down. What it did about the drive it writes down itself, since it may be the last one
alive.
"""

from __future__ import annotations

import argparse
import contextlib
import json
import os
import struct
import subprocess
import time
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

import numpy as np

from ..core.errors import BadInput
from ..core.signal.sinefit import Floats
from ..protocol import chain
from ..protocol.messages import Room, Trip
from ..rig.aftermath import LINGER, After, factors, keep
from ..rig.device import InputBlock, Wire, prefer, unpack, wire_from_fd, wire_pair
from ..rig.instruments import ON_THE_DESK, Trouble
from ..rig.model import MEASURED, Rig, load_rig
from . import nursery
from .desk import Watched, watched
from .guards import Guards, Seen, scaled
from .ramp import Ramp
from .ring import SLOTS, Ring

PATIENCE = 20.0
"""s of wall time that a conductor may take for one block in simulated time before it counts as hanging."""
DEVICE_PATIENCE = {"real": 5.0, "fast": 40.0}
"""s of wall time that a device may take for a block, by pace: simulated time waits for a busy machine."""
STANDIN_PATIENCE = 10.0
"""s for a stand-in: nothing real is driven, and a busy machine is no fault of it. Less than a conductor waits for the
keeper, which would be taken for hung else."""
DRIVERS = {"standin": "lucid_anvil.rig.standins.serve", "soundcard": "lucid_anvil.rig.soundcard"}
"""The device's process, by the front end's driver"""
DEVICE_START = 45.0
"""s of wall time that a device may take to come up."""


def channel_scales(rig: Rig, sensitivities: dict[str, float]) -> list[float]:
    """From volts to each channel's unit, by the sensitivities [V per unit] of the plan, or to ampere."""
    made = []
    for part in rig.channels:
        if part.kind == "current":
            made.append(1.0 / part.scale)
        elif part.kind in MEASURED:
            made.append(1.0 / sensitivities.get(part.role, 0.01))
        else:
            made.append(1.0)
    return made


class Keeper:
    """One session with one device."""

    def __init__(
        self, rig: Rig, device: Wire, conductor: Wire, ring: Ring, pace: str, log: Path,
        sensitivities: dict[str, float], control: dict[str, Any] | None = None,
    ) -> None:  # fmt: skip
        self.rig, self.device, self.conductor, self.ring = rig, device, conductor, ring
        self.pace, self.log = pace, log
        self.block, self.rate = rig.front_end.block, rig.front_end.rate
        self.roles = [c.role for c in rig.channels]
        self.scales = channel_scales(rig, sensitivities)
        signs = [c.sign for c in rig.channels]
        self.turned = np.array([[s] for s in (*signs, 1.0)]) if min(signs) < 0 else None
        """By row, where an input is turned round: from here on all see it as it should be"""
        self.guards = Guards(rig, log.parent, control or {})
        self.ramp = Ramp(self.rate)
        self.expects: dict[int, tuple[float | None, tuple[float, float, float] | None]] = {}
        self.next_drive = np.zeros(self.block)
        self.now = 0
        """Number of the newest block"""
        self.began = time.monotonic()
        self.answered = False
        """Whether the front end has sent its first block"""
        self.alone = False
        """The conductor is gone."""
        self.leaving = False
        self.armed = False
        """Until the conductor arms, nothing is driven and no guard acts, so that the walk-round may find and mend
        what they would trip on. Once armed, armed for good."""
        self.announced_zero = False
        self.first = 0
        """Number of the block with which the take begins"""
        self.altered: int | None = None
        """Number of the first block brought down while alone"""
        self.kept: list[Floats] = []
        self.lingering = LINGER
        self.patience = DEVICE_START
        self.desk: Watched | None = None

    def note(self, kind: str, **more: Any) -> None:
        """Append one line to the keeper's own log, on disk at once."""
        with contextlib.suppress(OSError), self.log.open("a", encoding="utf-8") as file:
            file.write(json.dumps({"kind": kind, "wall": time.time(), **more}) + "\n")

    def run(self) -> None:
        """Until told to leave, or alone with the drive at zero, or without device."""
        while True:
            block = self._read()
            if block is None:
                return
            self.now = block.index
            if self.desk is not None:
                self.desk.at(block.index * self.block / self.rate)
            expect, bounds = self.expects.pop(block.index, (None, None))
            trips, rooms = self.guards.look(
                Seen(
                    block.index * self.block / self.rate, block, scaled(block, self.scales, self.roles),
                    self.next_drive, expect, bounds, self.desk.shown if self.desk else None,
                    self.desk.trouble if self.desk else None,
                )
            )  # fmt: skip
            if not self.armed:
                trips = []
                self.guards.rearm()
            for trip in trips:
                self._act(trip, block.index)
            if self.altered is not None:
                self.kept.append(block.samples)
            self._hand_on(block, trips, rooms)
            drive = self._next_drive(block.index + 2)
            if not self.armed:
                drive = np.zeros(self.block)
            self.next_drive = self.ramp(drive, self.block)
            if self.ramp.zero and not self.announced_zero:
                self.announced_zero = True
                self.note("zero", block=block.index + 2, t=(block.index + 3) * self.block / self.rate)
            try:
                self.device.send(b"O", np.ascontiguousarray(self.next_drive, "<f8").tobytes())
            except OSError:
                self.note("device gone")
                return
            if (self.alone or self.leaving) and (self.ramp.zero or not np.any(self.next_drive)):
                if self.altered is not None and self.lingering > 0:
                    self.lingering -= 1
                    continue
                self._keep_what_came_after(block.index)
                self._dismiss_device()
                return

    def _keep_what_came_after(self, last: int) -> None:
        """The blocks that the conductor did not write any more, up to block `last`."""
        if self.altered is None:
            return
        after = After(
            last + 1 - len(self.kept) - self.first, self.altered - self.first, self.block,
            np.concatenate(self.kept, axis=1), factors(self.rig),
        )  # fmt: skip
        keep(self.log.parent, after)

    def _dismiss_device(self) -> None:
        """Tell the device to end, and hear it out, so that it need not take us for dead."""
        with contextlib.suppress(OSError, EOFError):
            self.device.send(b"Q")
            while self.device.ready(2.0):
                self.device.receive()

    def _read(self) -> InputBlock | None:
        if not self.device.ready(self.patience):
            self.note("device silent", after=self.patience)
            self._tell({"lost": "The front end stopped answering."})
            return None
        try:
            kind, payload = self.device.receive()
            if kind == b"T":  # who the sensors say they are: once, before the first block
                self._tell({"identity": json.loads(payload)})
                if self._own_desk:  # a real front end knows nothing of them; stand-ins tell their own
                    self._open_desk({})
                return self._read()
            if kind == b"X":  # it can't go on, or lost samples
                said = json.loads(payload)
                self.note("device", **said)
                self._tell(said)
                if "lost" in said:
                    return None
                return self._read()
            if kind == b"P":  # where its instruments are: once, before the first block
                self._open_desk(json.loads(payload))
                return self._read()
        except EOFError:
            self.note("device gone")
            self._tell({"lost": "The front end is gone."})
            return None
        if not self.answered:
            self.answered = True
            end = self.rig.front_end
            who = [(end.model, "", time.monotonic() - self.began), *(self.desk.answers if self.desk else ())]
            self._tell({"who": who})
        least = STANDIN_PATIENCE if self.rig.is_standin else 0.0
        self.patience = max(DEVICE_PATIENCE[self.pace], least)
        block = unpack(payload, len(self.roles), self.block)
        return block if self.turned is None else replace(block, samples=block.samples * self.turned)

    @property
    def _own_desk(self) -> bool:
        """Whether the rig file says where a run's real instruments are; a meter alone is for calibrating the card."""
        rig = self.rig
        told = any(p is not None and p.port is not None for p in (rig.chamber, rig.gauge))
        return not rig.is_standin and (told or {"supply", "load"} <= set(rig.instruments))

    def _open_desk(self, standins: dict[str, Any]) -> None:
        """Reach the instruments: those of the rig file, else the device's own."""
        places: dict[str, Any] = dict(standins)
        places.update({n: (p.host, p.port) for n, p in self.rig.instruments.items()})
        for name, part in (("chamber", self.rig.chamber), ("gauge", self.rig.gauge)):
            if part is not None and part.port is not None:
                places[name] = (part.host, part.port)
        if not places:
            return
        try:
            self.desk = watched(places, self.roles, self.pace, self.rig.chamber, self.rig.gauge)
        except Trouble as trouble:
            self._tell({"lost": str(trouble)})

    def _act(self, trip: Trip, index: int) -> None:
        self.note("trip", **asdict(trip), first_altered_block=index + 2)
        if trip.action == "cut":
            self.ramp.begin(self.rig.cut_time)
        elif trip.action == "ease":
            self.ramp.begin(self.rig.ease_time)

    def _tell(self, message: dict[str, Any]) -> None:
        if self.alone:
            return
        try:
            self.conductor.send_json(b"B", message)
        except OSError:
            self._be_alone("the run is gone")

    def _be_alone(self, why: str) -> None:
        self.alone = True
        if self.leaving:
            return  # it said good-bye first: nothing went wrong
        self.note("trip", guard="conductor", label=why, action="cut")
        self.ramp.begin(self.rig.cut_time * 4)
        if self.armed:
            self.altered = self.now + 2
            # The ring still holds what the recorder may not have written.
            self.kept = [self.ring.input(i) for i in range(max(self.first, self.now + 1 - SLOTS), self.now + 1)]

    def _hand_on(self, block: InputBlock, trips: list[Trip], rooms: list[Room]) -> None:
        self.ring.put_input(block.index, block.samples)
        self._tell(
            {
                "i": block.index,
                "overload": [r for r, o in zip(self.roles, block.overload, strict=True) if o],
                "bias": [None if np.isnan(b) else float(b) for b in block.bias],
                "room": [block.temperature, block.humidity, block.supply],
                "interlock": block.interlock,
                **({"instruments": self.desk.shown, "trouble": self.desk.trouble} if self.desk else {}),
                "trips": [vars(t) for t in trips],
                "rooms": [vars(r) for r in rooms],
                "free": self.guards.free,
                "zero": self.ramp.zero,
            }
        )

    def _next_drive(self, index: int) -> Floats | None:
        """The drive for block `index`; None when it did not come in time."""
        if self.alone or self.leaving:
            return None
        deadline = time.monotonic() + (self.rig.front_end.patience if self.pace == "real" else PATIENCE)
        while True:
            if not self.conductor.ready(max(0.0, deadline - time.monotonic())):
                if not np.any(self.next_drive) and not self.ramp.begun:
                    return np.zeros(self.block)  # nothing is driven, so nothing need be brought down
                if not self.ramp.begun:
                    self.note("trip", guard="late", label="Drive block late", action="cut", block=index)
                    self.ramp.begin(self.rig.cut_time * 4)
                    self._tell({"late": index})
                return None
            try:
                kind, payload = self.conductor.receive()
            except (EOFError, OSError):
                self._be_alone("the run is gone")
                return None
            if kind == b"D":
                number, expect, low, high, over = struct.unpack("<qdddd", payload)
                if number == index:
                    bounds = None if np.isnan(low) else (low, high, over)
                    self.expects[index] = (None if np.isnan(expect) else expect, bounds)
                    return self.ring.drive(index)
            elif kind == b"C":
                order = json.loads(payload)
                if self.desk is not None and order["name"] in ON_THE_DESK:
                    self.desk.put(order["name"], order["value"])
                else:
                    self.device.send(b"C", payload)
            elif kind == b"M":
                self.guards.know(chain.unpack(payload))
            elif kind == b"K" and not self.armed:
                held = json.loads(payload)
                self.scales = channel_scales(self.rig, held["sensitivities"])
                self.guards = Guards(self.rig, self.log.parent, held["control"])
            elif kind == b"A":
                self.armed = True
                first = self.first = int(json.loads(payload)["first"])
                self.note("armed", block=first)
                self.device.send_json(b"C", {"name": "begin", "value": first * self.block / self.rate})
            elif kind == b"S":
                order = json.loads(payload)
                self.note(
                    "trip",
                    guard=order.get("guard", "operator"),
                    label=order["why"],
                    action=order["action"],
                    block=index,
                )
                self.ramp.begin(self.rig.cut_time if order["action"] == "cut" else self.rig.ease_time)
            elif kind == b"Q":
                # No drive comes from here on: waiting for one would only hold the devices back from the next run.
                self.leaving = True
                self.ramp.begin(self.rig.cut_time * 4)
                return None


def start_device(rig_file: Path, pace: str, log: Path, driver: str = "standin") -> tuple[Wire, nursery.Started]:
    """The device's process, and the wire to it."""
    ours, theirs = wire_pair()
    fd = theirs.fileno()
    arguments = ["--fd", str(fd), "--rig", str(rig_file), "--pace", pace, "--log", str(log)]
    process = nursery.start(DRIVERS[driver], arguments, [fd])
    theirs.close()
    return ours, process


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--fd", type=int, required=True)
    parser.add_argument("--rig", type=Path, required=True)
    parser.add_argument("--ring", required=True)
    parser.add_argument("--pace", choices=("real", "fast"), required=True)
    parser.add_argument("--log", type=Path, required=True)
    parser.add_argument("--sensitivities", required=True)
    parser.add_argument("--control", default="{}")
    given = parser.parse_args()
    conductor = wire_from_fd(given.fd)
    for name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS"):
        os.environ.setdefault(name, "1")
    try:
        rig = load_rig(given.rig)
        device, process = start_device(given.rig, given.pace, given.log.with_name("device.jsonl"), rig.front_end.driver)
    except (BadInput, OSError) as problem:
        conductor.send_json(b"B", {"lost": str(problem)})
        return
    ring = Ring(len(rig.channels) + 1, rig.front_end.block, given.ring)
    keeper = Keeper(
        rig, device, conductor, ring, given.pace, given.log, json.loads(given.sensitivities), json.loads(given.control)
    )
    if given.pace == "real":
        prefer(20)
    conductor.send_json(b"B", {"hello": os.getpid(), "device": process.pid})
    keeper.run()
    if keeper.desk is not None:
        keeper.desk.close()
    device.sock.close()
    with contextlib.suppress(subprocess.TimeoutExpired):
        process.wait(2.0)
    if process.poll() is None:
        process.kill()  # it hangs; its output is its watchdog's matter
    ring.close()


if __name__ == "__main__":
    main()
