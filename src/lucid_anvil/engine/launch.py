"""Starting a conductor, finding one that runs, and talking to it: what every face does."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

from ..core.errors import BadInput
from ..protocol.messages import Board, board_from
from . import nursery


@dataclass(frozen=True)
class Address:
    """Where a conductor's door is."""

    port: int
    token: str
    pid: int
    plan: str
    take: str

    @property
    def headers(self) -> dict[str, str]:
        return {"Authorization": f"Bearer {self.token}"}

    def url(self, path: str) -> str:
        return f"http://127.0.0.1:{self.port}{path}"


def alive(pid: int) -> bool:
    """Whether a process is there (and not a zombie of ours)."""
    try:
        if os.waitpid(pid, os.WNOHANG)[0] == pid:
            return False
    except ChildProcessError:
        pass
    try:
        os.kill(pid, 0)
    except OSError:
        return False
    return True


def find(note: Path) -> Address | None:
    """The conductor that a note tells of, if it is alive."""
    try:
        held = json.loads(note.read_text(encoding="utf-8"))
        address = Address(held["port"], held["token"], held["pid"], held["plan"], held["take"])
    except (OSError, ValueError, KeyError, TypeError):
        return None
    return address if alive(address.pid) else None


def start(
    plan: Path,
    rig: Path | None,
    take: Path,
    pace: str,
    note: Path,
    auto: str | None = None,
    log: Path | None = None,
    resume: Path | None = None,
) -> nursery.Started:
    """Start a conductor in a session of its own, so that it outlives the face that started it. `resume`: a take whose
    course is to be continued from where it was cut."""
    command = ["--plan", str(plan), "--take", str(take), "--pace", pace, "--note", str(note)]
    if rig is not None:
        command += ["--rig", str(rig)]
    if auto is not None:
        command += ["--auto", auto]
    if resume is not None:
        command += ["--resume", str(resume)]
    note.unlink(missing_ok=True)
    with (log or Path(os.devnull)).open("ab") as errors:
        return nursery.start("lucid_anvil.engine.conductor", command, new_session=True, errors=errors.fileno())


def set_off_after(take: Path) -> bool:
    """Have what the lab wants done with a finished take done, by a process that outlives this one; its papers and mail
    are not the bench's business. Whether there is anything to do."""
    from ..lab.place import lab_of

    lab = lab_of(take)
    if lab is None or not lab.wants_after(take):
        return False
    subprocess.Popen(
        [sys.executable, "-m", "lucid_anvil.cli", "after", str(take), "--again"],
        start_new_session=True, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    return True


def wait_for(
    note: Path, process: nursery.Started | None, timeout: float = 45.0, log: Path | None = None
) -> Address:
    """The door of a conductor just started. Raises BadInput when it does not open."""
    until = time.monotonic() + timeout
    while time.monotonic() < until:
        address = find(note)
        # Another conductor's door may still be open at the same place.
        if address is not None and (process is None or address.pid == process.pid):
            return address
        if process is not None and process.poll() is not None:
            there = log is not None and log.exists()
            said = log.read_text(encoding="utf-8", errors="replace").strip().splitlines() if log and there else []
            if process.returncode == 2 and said:
                raise BadInput(said[-1])
            break
        time.sleep(0.02)
    raise BadInput("The run could not be started: it ended at once; see its log beside the take.")


@cache
def _client() -> Any:
    """One HTTP client for all calls: making one is slow, and the loopback needs no certificates."""
    import httpx

    return httpx.Client(verify=False, trust_env=False)


def get_board(address: Address, timeout: float = 5.0, quiet: bool = False) -> Board:
    """One snapshot. `quiet`: the run does not take it for somebody at the bench. Raises OSError when nobody answers."""
    import httpx

    try:
        answer = _client().get(address.url("/glance" if quiet else "/board"), headers=address.headers, timeout=timeout)
    except httpx.HTTPError as problem:
        raise OSError(str(problem)) from None
    answer.raise_for_status()
    return board_from(answer.json())


def order(address: Address, name: str, **body: Any) -> None:
    """Give an order: sign, begin, stop, mark or close. Raises OSError when nobody answers."""
    import httpx

    try:
        answer = _client().post(address.url(f"/{name}"), headers=address.headers, json=body, timeout=5.0)
    except httpx.HTTPError as problem:
        raise OSError(str(problem)) from None
    if answer.status_code == 422:
        raise BadInput(str(answer.json().get("detail", "the order was refused")))
    if answer.is_error:
        raise OSError(f"the run answers {answer.status_code}")


def runs() -> list[Address]:
    """Every run of this user that is alive, oldest first; notes of dead ones are swept away."""
    from .notes import runs_folder

    made = []
    for note in sorted(runs_folder().glob("*.json"), key=lambda p: p.stat().st_mtime):
        found = find(note)
        if found is None:
            note.unlink(missing_ok=True)
        else:
            made.append(found)
    return made


def run_named(name: str | None) -> Address:
    """The run with this number, take or plan; the only one where no name is given. Raises BadInput."""
    there = runs()
    if name is None:
        if len(there) == 1:
            return there[0]
        what = "No run is there." if not there else "Say which: " + ", ".join(f"{a.pid} ({a.take})" for a in there)
        raise BadInput(what)
    for one in there:
        if name in (str(one.pid), one.take, one.plan) or Path(name).resolve() in (Path(one.take), Path(one.plan)):
            return one
    raise BadInput(f"{name}: there is no such run; 'lucid-anvil runs' lists them.")
