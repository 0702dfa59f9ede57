"""Faults around a run: its door killed or flooded, the face hung up, the disk full, the ledger locked or gone; and
templates that attack. The run's end is the run's, its drive untouched."""

from __future__ import annotations

import contextlib
import datetime
import os
import signal
import socket
import sqlite3
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import Any

import httpx
import numpy as np

from lucid_anvil.core.errors import BadInput
from lucid_anvil.engine import launch, settling
from lucid_anvil.folio.certificate import html_of
from lucid_anvil.formats.hdf5file import read_events
from lucid_anvil.lab import planning
from lucid_anvil.lab.demo import make_demo
from lucid_anvil.lab.place import Lab, open_lab
from lucid_anvil.lab.takes import Take

from .told import Job, Told

COURSE = {"start": "63 Hz", "stop": "500 Hz", "steps_per_octave": 3, "dwell": "0.8 s", "settle_run": "0.1 s",
          "insert": False}  # fmt: skip
ATTACKS = (
    "{{ ''.__class__.__mro__[1].__subclasses__() }}",
    "{{ lab.__init__.__globals__ }}",
    "{% for x in range(10**9) %}a{% endfor %}",
    "{{ plan.title",
    "{{ verdict.nothing.at.all }}",
    "{{ lipsum.__globals__['os'].popen('id').read() }}",
    "{{ cycler.__init__.__globals__.os }}",
    "{% include '/etc/passwd' %}",
    "{% import '../../lab.yaml' as x %}",
    "{{ self._TemplateReference__context }}",
)


def jobs(folder: Path, times: int) -> list[Job]:
    """Each fault so many times at drawn moments, each in a lab of its own."""
    rng = np.random.default_rng(42)
    made: list[Job] = []
    for name, fault in FAULTS.items():
        for k in range(times):
            place = folder / f"{name.replace(' ', '-')}-{k}"
            made.append((name, partial(one_run, place, fault, float(rng.uniform(0.05, 0.8)))))
    made += [
        (f"template: {text[:40]}", partial(attack, folder / f"template{k}", text)) for k, text in enumerate(ATTACKS)
    ]
    return made


def one_run(folder: Path, fault: Callable[..., Told], share: float) -> Told:
    """A run in processes, with a fault when `share` of its points are there."""
    lab = make_demo(folder, datetime.date.today())
    plan = planning.calibration_plan(lab, "GA-11", today=datetime.date.today(), changes=COURSE)
    return fault(lab, planning.write_plan(lab, "GA-11", plan), share)


class Run:
    """A run in processes of its own."""

    def __init__(self, plan: Path, take: Path, environment: dict[str, str] | None = None) -> None:
        self.take, note = take, plan.parent / "note.json"
        held = dict(os.environ)
        os.environ.update(environment or {})
        try:
            self.process = launch.start(plan, None, take, "fast", note, "T.T.", plan.parent / "log.txt")
            self.address = launch.wait_for(note, self.process, 60)
        finally:
            os.environ.clear()
            os.environ.update(held)

    def board(self) -> Any:
        with contextlib.suppress(OSError):
            return launch.get_board(self.address)
        for a in launch.runs():
            if a.pid == self.process.pid:
                self.address = a
        return None

    def until(self, done: Callable[[Any], bool], longest: float = 120.0) -> Any:
        end = time.monotonic() + longest
        while time.monotonic() < end:
            board = self.board()
            if board is not None and done(board):
                return board
            time.sleep(0.03)
        raise TimeoutError("the run did not come that far")

    def reached(self, share: float) -> None:
        self.until(lambda b: len(b.points) >= max(1, round(10 * share)) or b.state in ("done", "failed"))

    def over(self) -> Any:
        return self.until(lambda b: b.state in ("done", "failed"))

    def close(self) -> None:
        with contextlib.suppress(Exception):
            launch.order(self.address, "close")
            self.process.wait(10)
        if self.process.poll() is None:
            self.process.kill()


@contextlib.contextmanager
def running(plan: Path, environment: dict[str, str] | None = None) -> Iterator[Run]:
    run = Run(plan, plan.parent / "take", environment)
    try:
        yield run
    finally:
        run.close()


def well(run: Run) -> Told:
    """Whether the run came to its end with a finding, nothing cut and nothing late."""
    board = run.over()
    late = [e for e in read_events(run.take / "events.jsonl") if e["kind"] in ("late", "trip")]
    good = board.state == "done" and board.trip is None and not late and Take(run.take).finding() is not None
    return Told(good, f"{board.state}, {len(board.points)} points" + (f", {board.message}" if board.message else ""))


def door_killed(lab: Lab, plan: Path, share: float) -> Told:
    with running(plan) as run:
        run.reached(share)
        for place in Path("/proc").glob("[0-9]*/cmdline"):
            with contextlib.suppress(OSError, ValueError):
                parent = int((place.parent / "stat").read_text().rsplit(")", 1)[1].split()[1])
                if b"lucid_anvil.engine.doorman" in place.read_bytes() and parent == run.process.pid:
                    os.kill(int(place.parent.name), signal.SIGKILL)
        return well(run)


def door_flooded(lab: Lab, plan: Path, share: float) -> Told:
    with running(plan) as run:
        run.reached(share / 2)
        stop = threading.Event()
        port, where = run.address.port, run.address.url("/mark")
        idle = [socket.create_connection(("127.0.0.1", port)) for _ in range(200)]

        def flood() -> None:
            body = b'{"text": "' + b"x" * 5_000_000 + b'"}'
            while not stop.is_set():
                with contextlib.suppress(httpx.HTTPError):
                    httpx.post(where, content=body, timeout=2)
                    httpx.get(run.address.url("/board"), headers={"Authorization": "Bearer no"}, timeout=2)

        threads = [threading.Thread(target=flood) for _ in range(2)]
        for t in threads:
            t.start()
        try:
            return well(run)
        finally:
            stop.set()
            for t in threads:
                t.join()
            for one in idle:
                one.close()


def face_hung_up(lab: Lab, plan: Path, share: float) -> Told:
    take = plan.parent / "take"
    # Long enough that it is not over before its face goes.
    long = planning.calibration_plan(lab, "GA-11", today=datetime.date.today(), changes=COURSE | {"dwell": "6 s"})
    plan = planning.write_plan(lab, "GA-11", long)
    face = subprocess.Popen([sys.executable, "-m", "lucid_anvil.cli", "run", str(plan), "--take", str(take)],
                            stderr=subprocess.PIPE, stdout=subprocess.DEVNULL, text=True)  # fmt: skip
    end, found = time.monotonic() + 60, []
    while not found and time.monotonic() < end:
        found = [a for a in launch.runs() if a.take == str(take)]
        time.sleep(0.05)
    until = time.monotonic() + 60
    while time.monotonic() < until and launch.get_board(found[0]).state != "running":
        time.sleep(0.05)
    time.sleep(4 * share)
    face.send_signal(signal.SIGHUP)
    _, said = face.communicate(timeout=30)
    board = launch.get_board(found[0])
    good = (
        board.trip is None and "lucid-anvil watch" in said and board.state in ("running", "reading", "easing", "done")
    )
    launch.order(found[0], "stop", why="the study is over")
    end = time.monotonic() + 40
    while time.monotonic() < end and launch.get_board(found[0]).state not in ("done", "failed"):
        time.sleep(0.1)
    status = Take(take).status()
    launch.order(found[0], "close")
    return Told(good and status == "cut", f"went on, then stopped by hand: {status}")


def disk_full(lab: Lab, plan: Path, share: float) -> Told:
    """The record may take no more than it holds: writing fails as on a full disk, and the kernel sends SIGXFSZ, which
    Python ignores."""
    with running(plan) as run:
        run.reached(share)
        held = (run.take / "raw.h5").stat().st_size
        import resource

        resource.prlimit(run.process.pid, resource.RLIMIT_FSIZE, (held + 4096, resource.RLIM_INFINITY))
        board = run.over()
        resource.prlimit(run.process.pid, resource.RLIMIT_FSIZE, (resource.RLIM_INFINITY, resource.RLIM_INFINITY))
        told = board.message or (board.trip or {}).get("sentence", "")
    take = Take(run.take)
    finding = take.finding()
    inside = finding is not None and finding.verdict == "inside" and take.status() != "done"
    return Told(bool(told) and not inside, f"{take.status()}: {told}")


def ledger_locked(lab: Lab, plan: Path, share: float) -> Told:
    with running(plan) as run:
        run.reached(share)
        lock = sqlite3.connect(lab.folder / "ledger.sqlite", isolation_level=None)
        lock.execute("BEGIN EXCLUSIVE")
        try:
            made = well(run)
        finally:
            lock.execute("ROLLBACK")
            lock.close()
        if not made.good:
            return made
    done = settling.settle(Take(run.take))
    return Told(any("ledger" in line for line in done), f"{made.text}; settled: {'; '.join(done) or 'nothing'}")


def ledger_gone(lab: Lab, plan: Path, share: float) -> Told:
    place = lab.folder / "lab.yaml"
    rows = place.read_text(encoding="utf-8")
    with running(plan) as run:
        run.reached(share)
        place.write_text(rows + "\nledger: sqlite:////nowhere/at/all/ledger.sqlite\n", encoding="utf-8")
        made = well(run)
        place.write_text(rows, encoding="utf-8")
        if not made.good:
            return made
    done = settling.settle(Take(run.take))
    return Told(any("ledger" in line for line in done), f"{made.text}; settled: {'; '.join(done) or 'nothing'}")


FAULTS: dict[str, Callable[..., Told]] = {
    "door killed": door_killed,
    "door flooded": door_flooded,
    "face hung up": face_hung_up,
    "disk full": disk_full,
    "ledger locked": ledger_locked,
    "ledger gone": ledger_gone,
}


def attack(folder: Path, text: str) -> Told:
    """A lab's own template with something in it that no template may do."""
    make_demo(folder, datetime.date.today())
    lab = open_lab(folder)
    (folder / "templates").mkdir()
    (folder / "templates" / "report.html").write_text(text, encoding="utf-8")
    try:
        made = html_of({"lab": lab.facts, "verdict": "open"}, lab, "report.html")
    except BadInput as problem:
        return Told("template" in str(problem) and "\n" not in str(problem), str(problem))
    return Told(not made.strip(), f"filled in with '{made[:60]}'")
