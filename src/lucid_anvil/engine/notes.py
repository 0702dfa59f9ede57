"""Where runs are found: a note a run, readable by its user alone, and the locks that keep a rig for one of them."""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import json
import os
import secrets
import time
from pathlib import Path
from typing import Any

from ..core.errors import BadInput

PATIENCE = 6.0
"""s that a rig is waited for: the run before may just be letting go of it"""


def runs_folder() -> Path:
    """This user's notes of runs, wherever they were started; made with nobody else let in."""
    given = os.environ.get("LUCID_ANVIL_RUNS")
    state = os.environ.get("XDG_STATE_HOME")
    usual = (Path(state) if state else Path.home() / ".local" / "state") / "lucid-anvil" / "runs"
    place = Path(given) if given else usual
    private(place)
    return place


def private(folder: Path) -> None:
    """Make a folder that is its user's alone."""
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    with contextlib.suppress(OSError):
        os.chmod(folder, 0o700)


def own_note() -> Path:
    """Where this process tells of its run."""
    return runs_folder() / f"{os.getpid()}.json"


def put_note(note: Path, facts: dict[str, Any]) -> None:
    """Write a note that nobody else could read at any moment, whole or not at all."""
    note.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    if note.parent.name in ("run", "runs"):
        with contextlib.suppress(OSError):
            os.chmod(note.parent, 0o700)
    part = note.with_name(f".{note.name}.{secrets.token_hex(4)}")
    handle = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    try:
        with os.fdopen(handle, "w", encoding="utf-8") as file:
            json.dump(facts, file)
        os.replace(part, note)
    except BaseException:
        part.unlink(missing_ok=True)
        raise


def take_note_away(note: Path) -> None:
    """Only our own."""
    with contextlib.suppress(OSError, ValueError, KeyError):
        if json.loads(note.read_text(encoding="utf-8"))["pid"] == os.getpid():
            note.unlink()


class RigLock:
    """A rig's devices belong to one run. Held by the process, so that it is free when that dies, however it does."""

    def __init__(self, rig_file: Path, device: str) -> None:
        """`device` names a real front end; stand-ins belong to their file."""
        key = device or str(rig_file.resolve())
        folder = runs_folder() / "rigs"
        private(folder)
        self.place = folder / f"{hashlib.sha256(key.encode()).hexdigest()[:24]}.lock"
        self.name = rig_file
        self.handle: int | None = None

    def take(self, told: str, patience: float = PATIENCE) -> None:
        """Raises BadInput naming who holds it. `told`: what the next one is told of us."""
        handle = os.open(self.place, os.O_RDWR | os.O_CREAT, 0o600)
        until = time.monotonic() + patience
        while True:
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except OSError:
                if time.monotonic() > until:
                    who = os.pread(handle, 2000, 0).decode("utf-8", "replace").strip() or "another run"
                    os.close(handle)
                    raise BadInput(
                        f"{self.name}: its devices are held by {who}: wait for it, or end it with 'lucid-anvil stop'."
                    ) from None
                time.sleep(0.1)
        os.ftruncate(handle, 0)
        os.pwrite(handle, told.encode(), 0)
        self.handle = handle

    def free(self) -> None:
        if self.handle is not None:
            os.close(self.handle)
            self.handle = None
