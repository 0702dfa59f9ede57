"""The stand-in bench as a process of its own, with its clock and its watchdog.

It zeroes its output by itself when output blocks stop coming, whatever became of the process that sent them,
and writes down when it did.
"""

from __future__ import annotations

import contextlib
import json
import os
import time
from collections import deque
from pathlib import Path

import numpy as np

from ...core.signal.sinefit import Floats
from ..aftermath import LINGER, After, factors, keep
from ..device import InputBlock, Wire, arguments, prefer, wire_from_fd
from ..model import Rig, load_rig
from .choosing import bench_of
from .inputs import InputStage

GIVE_UP = 45.0
"""s of wall time after which even a device in simulated time takes its keeper for dead."""


class Server:
    """Plays what comes; ramps to zero when nothing does."""

    def __init__(self, rig: Rig, wire: Wire, pace: str, log: Path | None) -> None:
        self.bench = bench_of(rig)
        self.bench.command("wait", None)
        self.inputs = InputStage(rig)
        self.rig, self.wire, self.pace, self.log = rig, wire, pace, log
        self.block, self.rate = rig.front_end.block, rig.front_end.rate
        self.queue: list[Floats] = [np.zeros(self.block), np.zeros(self.block)]
        self.gone: str | None = None
        self.last: deque[Floats] = deque(maxlen=4)
        """What the inputs showed lately: it may not have been handed on when the guards are gone"""
        self.desk = self.bench.served()

    def run(self) -> None:
        """Until told to stop, or the keeper is gone and the output is zero."""
        began = time.monotonic()
        playing = np.zeros(1)
        span = self.block / self.rate
        index = 0
        with contextlib.suppress(OSError):
            self.wire.send_json(b"T", self.rig.identities())
            if self.desk is not None:
                self.wire.send_json(b"P", {name: ("127.0.0.1", port) for name, port in self.desk.ports.items()})
        made = self.play(self.queue.pop(0))
        while not self.gone:
            if self.pace == "real":
                early = began + (index + 1) * span - time.monotonic()
                time.sleep(max(0.0, early))
                # Simulated time never hurries after a pause of the machine: it slips.
                began += max(0.0, -early)
            now = (index + 1) * span
            if any(f.kind == "hang" for f in self.bench.faults.between(now, now)):
                self._hang()
            try:
                self.wire.send(b"I", made.pack())
            except OSError:
                self.gone = "the guards are gone"
                break
            # The next block is played now, from the queue; while it lasts, the one after it must come.
            playing = self.queue.pop(0)
            self.last.append(made.samples)
            made = self.play(playing)
            if not self._fetch():
                return
            index += 1
        self.last.append(made.samples)
        self._watchdog(playing, made.index)

    def play(self, source: Floats) -> InputBlock:
        """One block, as the inputs show it."""
        return self.inputs(self.bench.play(source))

    def _hang(self) -> None:
        """Answer nothing any more, as long as somebody is there to be left without an answer."""
        parent = os.getppid()
        while os.getppid() == parent:
            time.sleep(0.5)
        self.gone = "the guards are gone"

    def _fetch(self) -> bool:
        """Take messages until one more block is queued. False: told to stop."""
        while not self.queue:
            wait = GIVE_UP if self.pace == "fast" else 2 * self.rig.front_end.patience + 0.1
            if not self.wire.ready(wait):
                self.gone = "no output block came in time"
                return True
            try:
                kind, payload = self.wire.receive()
            except (EOFError, OSError):
                self.gone = "the guards are gone"
                return True
            if kind == b"O":
                self.queue.append(np.frombuffer(payload, "<f8"))
            elif kind == b"C":
                order = json.loads(payload)
                self.bench.command(order["name"], order["value"])
            elif kind == b"Q":
                return False
        return True

    def _watchdog(self, playing: Floats, newest: int) -> None:
        """From the last block the output is faded out within the watchdog's time; then it stays at zero."""
        span = max(int(self.rig.front_end.watchdog * self.rate), 1)
        rest = np.resize(playing[::-1], span)
        faded = rest * np.linspace(1, 0, span)
        self._keep(faded, newest)
        if self.log:
            line = {
                "kind": "watchdog", "reason": self.gone, "within": self.rig.front_end.watchdog,
                "last": float(faded[-1]), "level_before": float(np.abs(rest).max()), "wall": time.time(),
            }  # fmt: skip
            with self.log.open("a", encoding="utf-8") as file:
                file.write(json.dumps(line) + "\n")

    def _keep(self, faded: Floats, newest: int) -> None:
        """What it put out and heard since the guards were last heard, for the take's record."""
        begun = self.bench.faults.begun
        if self.log is None or begun is None:
            return
        count = -(-faded.size // self.block) + LINGER
        drive = np.concatenate([faded, np.zeros(count * self.block - faded.size)])
        rows = [*self.last, *(self.play(part).samples for part in drive.reshape(count, self.block))]
        first = round(begun * self.rate / self.block)
        begin, before = newest + 1 - len(self.last), max(0, first - newest - 1 + len(self.last))
        after = After(
            begin + before - first, newest + 1 - first, self.block, np.concatenate(rows[before:], axis=1),
            factors(self.rig) * np.array([*(c.sign for c in self.rig.channels), 1.0]),
        )  # fmt: skip
        keep(self.log.parent, after)


def main() -> None:
    given = arguments()
    if given.pace == "real":
        prefer(30)
    Server(load_rig(given.rig), wire_from_fd(given.fd), given.pace, given.log).run()


if __name__ == "__main__":
    main()
