"""Running a plan from the command line: a conductor is started and followed through its door."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from ..contracts.finding import Finding
from ..contracts.settings import check
from ..core.errors import BadInput
from ..lab.plans import Plan, load_plan, rig_path
from ..lab.series import alone, begin_series, keep_finding, series_in
from ..lab.takes import Take, claim_take_folder, open_take
from ..protocol.messages import Board
from ..rig.model import load_rig
from . import launch
from .notes import runs_folder
from .preparing import Prepared, check_space, prepare, prepared_from
from .taking import unmake_take


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
    if take is not None and take.exists() and (not take.is_dir() or any(take.iterdir())):
        raise BadInput(f"{take}: it exists already: a take is never written over; choose another place.")
    if take is not None:
        with contextlib.suppress(OSError):
            take.parent.mkdir(parents=True, exist_ok=True)
        if not take.parent.is_dir():
            raise BadInput(f"{take}: its folder can't be made: choose another place.")
    check_space(prepared, (take or plan).parent)
    signer = signed_by or ("stand-in" if prepared.rig.is_standin else _ask_signature(prepared))
    folder = take or claim_take_folder(plan.parent)
    # A note of its own: whoever comes after us finds the run by it, also when this terminal is gone.
    note = runs_folder() / f"started-by-{os.getpid()}.door"
    log = note.with_suffix(".log")
    process = launch.start(plan, rig, folder, pace, note, signer, log, resume)
    try:
        with _left_alone(say, process.pid, prepared.plan.when_alone):
            address = launch.wait_for(note, process, log=log)
            board = _followed(address, prepared)
    except BadInput:
        unmake_take(folder)
        raise
    except LeftAlone:
        held = launch.find(note)
        if held is not None and prepared.plan.when_alone == "ease down":
            with contextlib.suppress(OSError, BadInput):
                launch.order(held, "stop", why="nobody watches any more, and the plan says to ease down then")
        raise
    except OSError as problem:
        text = log.read_text(encoding="utf-8").strip().splitlines() if log.exists() else []
        raise RuntimeError(f"{problem} {text[-1] if text else ''}".strip()) from None
    finally:
        if process.poll() is None:
            with contextlib.suppress(OSError, BadInput):
                held = launch.find(note)
                if held is not None and launch.get_board(held).state in ("done", "failed"):
                    launch.order(held, "close")
        note.unlink(missing_ok=True)
    with contextlib.suppress(subprocess.TimeoutExpired):
        process.wait(20)
    log.unlink(missing_ok=True)
    if board.state == "failed" and not (folder / "events.jsonl").exists():
        if board.message and board.message.startswith("walk-round"):
            raise BadInput(f"{plan}: {board.message}")
        return Outcome(folder, "failed", board.message, None)
    kept = Take(folder)
    finding = kept.finding()
    # A take that could not be read says why: the run itself may have been without fault.
    return Outcome(folder, kept.status(), kept.reason() or (board.message if finding is None else None), finding)


def run_series(
    plan: Path,
    rig: Path | None,
    pace: str,
    folder: Path | None,
    signed_by: str | None,
    say: Callable[[str], None],
) -> Outcome:
    """The steps of a plan one after the other, each as far as the one before it allows. What is there is read in any
    case. Raises BadInput before anything moves."""
    steps_of(plan, rig)
    series = begin_series(plan, folder)
    outcome: Outcome | None = None
    for number in range(1, len(series.steps) + 1):
        step = series.steps[number - 1]
        why = series.held_back(step)
        if why:
            say(f"Not gone on: {why}")
            break
        say(f"Step {step.number} of {len(series.steps)}: {step.label}.")
        if step.prompt and not _asked(step.prompt, signed_by is not None):
            say(f"Not gone on: '{step.prompt}' was not done.")
            break
        outcome = run_plan(step.plan, rig, pace, None, signed_by, say)
        series = series_in(series.folder)
    found = keep_finding(series)
    status = next((s.status for s in series.steps if s.status not in ("done", "")), "done")
    if outcome is not None and outcome.status == "failed":
        status = "failed"
    return Outcome(series.folder, status, outcome.reason if outcome is not None else None, found)


def steps_of(plan: Path, rig: Path | None) -> list[Prepared]:
    """Every step of a plan of several, prepared; none for a plan of one. Raises BadInput for what can't be run."""
    held = load_plan(plan)
    if not held.several:
        return []
    made = []
    for i in range(len(held.steps)):
        place = rig or _rig_of(held, i, plan)
        try:
            one = check(Plan, alone(held, i, plan.parent), str(plan))
            made.append(prepared_from(one, plan, load_rig(place), place))
        except BadInput as problem:
            raise BadInput(f"step {i + 1}: {problem}") from None
    return made


def _rig_of(plan: Plan, i: int, file: Path) -> Path:
    """The rig of a step. Raises BadInput where it is not there."""
    step = plan.steps[i]
    return rig_path(plan.model_copy(update={"rig": step.rig or plan.rig}), file, None)


def _asked(prompt: str, signed: bool) -> bool:
    """A person does what is asked for; where somebody signed for all of it beforehand, it counts as done."""
    if signed or not sys.stdin.isatty():
        return signed
    return input(f"{prompt} - done? [y/n] ").strip().lower() in ("y", "yes")


class LeftAlone(BaseException):
    """The terminal, or whoever watched, is gone; the run goes on, or eases down where its plan says so."""


@contextlib.contextmanager
def _left_alone(say: Callable[[str], None], pid: int, what: str) -> Iterator[None]:
    """A lost terminal or an end of this process leaves the run going, and says where it is picked up; unless its plan
    says otherwise."""
    words = f"The run goes on: 'lucid-anvil watch {pid}' follows it, 'lucid-anvil stop {pid}' eases it down."
    if what == "ease down":
        words = f"The run eases down, as its plan says: 'lucid-anvil watch {pid}' follows it to its end."

    def gone(number: int, _frame: object) -> None:
        with contextlib.suppress(OSError):
            say(words)
        raise LeftAlone

    before = {n: signal.signal(n, gone) for n in (signal.SIGHUP, signal.SIGTERM)}
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


def _followed(address: launch.Address, prepared: Prepared) -> Board:
    """Follow to the end; Ctrl+C asks the run to ease down, and its end is waited for all the same."""
    while True:
        try:
            return follow(address, prepared)
        except KeyboardInterrupt:
            launch.order(address, "stop", why="stopped at the command line")


def _ask_signature(prepared: Prepared) -> str:
    """A person at the terminal signs what can't be sensed."""
    to_sign = [c for c in prepared.plan.walk_round if c.sense is None]
    if not to_sign:
        return "nobody"
    if not sys.stdin.isatty():
        raise BadInput(
            "The walk-round has checks that a person must sign: say --signed-by INITIALS when they are done."
        )
    for each in to_sign:
        answer = input(f"{each.text} - done? [y/n] ")
        if answer.strip().lower() not in ("y", "yes"):
            raise BadInput(f"Not begun: '{each.text}' is not done.")
    return input("Your initials: ").strip() or "nobody"


def _by_hand(address: launch.Address, asked: str, typing: bool = False) -> None:
    """A person does what the run asks for, and says so, or types a reading; with nobody at the terminal the run
    ends."""
    if not sys.stdin.isatty():
        launch.order(address, "stop", why=f"nobody is there to do this: {asked}")
        return
    if typing:
        launch.order(address, "row", meter=input(f"{asked} "))
        return
    input(f"{asked} - press Enter when it is done. ")
    launch.order(address, "go")


def follow(address: launch.Address, prepared: Prepared | None = None) -> Board:
    """Progress on standard error until the run is over. Raises OSError when it is gone."""
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

    total = max(sum(i.duration for i in prepared.course()), 1.0) if prepared is not None else None
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
                if misses > 100 or not launch.alive(address.pid):
                    raise
                time.sleep(0.1)
                # Its door may have been opened anew elsewhere.
                address = next((a for a in launch.runs() if a.pid == address.pid), address)
                continue
            if prepared is not None and board.live.get("stage") == "asking" and not prepared.rig.is_standin:
                bar.stop()
                _by_hand(address, str(board.live["ask"]), bool(board.live.get("typing")))
                bar.start()
            f = board.live.get("frequency")
            text = board.state if not f else f"{board.state} {f:g} Hz"
            bar.update(task, completed=min(board.t, total or board.t), description=text)
            if board.state in ("done", "failed"):
                return board
            time.sleep(0.1)
