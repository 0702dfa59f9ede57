"""Running a plan from the command line: a conductor is started and followed through its door."""

from __future__ import annotations

import contextlib
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ..core.errors import BadInput
from ..lab.findings import Finding
from ..lab.takes import Take, next_take_folder, open_take
from . import launch
from .preparing import Prepared, prepare


@dataclass(frozen=True)
class Outcome:
    """What became of a run."""

    take: Path
    status: str
    reason: str | None
    finding: Finding | None


def run_plan(
    plan: Path,
    rig: Path | None,
    pace: str,
    take: Path | None,
    signed_by: str | None,
    say: Callable[[str], None],
    resume: Path | None = None,
) -> Outcome:
    """Start, follow, and give what came of it. Raises BadInput before anything moves."""
    prepared = prepare(plan, rig)
    if resume is not None and open_take(resume).position() is None:
        raise BadInput(f"{resume}: it says nowhere that it could be continued from: run the plan from its start.")
    pace = pace or ("fast" if prepared.rig.is_standin else "real")
    if pace not in ("real", "fast"):
        raise BadInput(f"--pace {pace}: use real or fast.")
    if pace == "fast" and not prepared.rig.is_standin:
        raise BadInput("--pace fast: only stand-ins run faster than the clock; use --pace real.")
    folder = take or next_take_folder(plan.parent)
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise BadInput(f"{folder}: it exists already: a take is never written over; choose another place.")
    with contextlib.suppress(OSError):
        folder.parent.mkdir(parents=True, exist_ok=True)
    if not folder.parent.is_dir():
        raise BadInput(f"{folder}: its folder can't be made: choose another place.")
    signer = signed_by or ("stand-in" if prepared.rig.is_standin else _ask_signature(prepared))
    with tempfile.TemporaryDirectory() as work:
        note, log = Path(work) / "door.json", Path(work) / "conductor.log"
        process = launch.start(plan, rig, folder, pace, note, signer, log, resume)
        try:
            address = launch.wait_for(note, process)
            board = _follow(address, prepared)
        except KeyboardInterrupt:
            launch.order(launch.wait_for(note, process), "stop", why="stopped at the command line")
            board = _follow(launch.wait_for(note, process), prepared)
        except (BadInput, OSError) as problem:
            text = log.read_text(encoding="utf-8").strip().splitlines() if log.exists() else []
            raise RuntimeError(f"{problem} {text[-1] if text else ''}".strip()) from None
        with contextlib.suppress(OSError):
            launch.order(address, "close")
        process.wait(20)
    if board.state == "failed" and not (folder / "events.jsonl").exists():
        if board.message and board.message.startswith("walk-round"):
            raise BadInput(f"{plan}: {board.message}")
        return Outcome(folder, "failed", board.message, None)
    kept = Take(folder)
    return Outcome(folder, kept.status(), kept.reason(), kept.finding())


def _ask_signature(prepared: Prepared) -> str:
    """A person at the terminal signs what can't be sensed."""
    to_sign = [c for c in prepared.plan.walk_round if c.sense is None]
    if not to_sign:
        return "nobody"
    if not sys.stdin.isatty():
        raise BadInput(
            "The walk-round has checks that a person must sign: say --signed-by INITIALS when they are done."
        )
    for check in to_sign:
        answer = input(f"{check.text} - done? [y/n] ")
        if answer.strip().lower() not in ("y", "yes"):
            raise BadInput(f"Not begun: '{check.text}' is not done.")
    return input("Your initials: ").strip() or "nobody"


def _by_hand(address: launch.Address, asked: str) -> None:
    """A person does what the run asks for, and says so; with nobody at the terminal the run ends."""
    if not sys.stdin.isatty():
        launch.order(address, "stop", why=f"nobody is there to do this: {asked}")
        return
    input(f"{asked} - press Enter when it is done. ")
    launch.order(address, "go")


def _follow(address: launch.Address, prepared: Prepared) -> Any:
    """Progress on standard error until the run is over."""
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

    total = max(sum(i.duration for i in prepared.course()), 1.0)
    misses = 0
    with Progress(
        TextColumn("{task.description}"), BarColumn(), TimeRemainingColumn(), console=Console(stderr=True),
        transient=True,
    ) as bar:  # fmt: skip
        task = bar.add_task("starting", total=total)
        while True:
            try:
                board = launch.get_board(address)
                misses = 0
            except OSError:
                misses += 1
                if misses > 20 or not launch.alive(address.pid):
                    raise
                time.sleep(0.1)
                continue
            if board.live.get("stage") == "asking" and not prepared.rig.is_standin:
                bar.stop()
                _by_hand(address, str(board.live["ask"]))
                bar.start()
            f = board.live.get("frequency")
            text = board.state if not f else f"{board.state} {f:g} Hz"
            bar.update(task, completed=min(board.t, total), description=text)
            if board.state in ("done", "failed"):
                return board
            time.sleep(0.1)
