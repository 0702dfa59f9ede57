"""The run's side of its door: a process of its own opens it, pictures go there, orders come back."""

from __future__ import annotations

import contextlib
import json
import os
import queue
import secrets
import signal
import struct
import subprocess
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from ..rig.device import Wire, wire_pair
from . import nursery
from .notes import put_note, take_note_away

OPENS_IN = 30.0
"""s that the door's process may take to open"""
TRIES = 3
"""times that a door which died is opened anew"""


class Door:
    """Keeps a door open for as long as the run lasts; tells when it can't."""

    def __init__(
        self, notes: list[Path], facts: dict[str, Any], looked: Callable[[], None], shut: Callable[[str], None]
    ) -> None:
        """`notes` where faces are told; `looked` is called when a face looks, `shut` when no door can be kept open."""
        self.token = secrets.token_urlsafe(24)
        self.orders: queue.Queue[dict[str, Any]] = queue.Queue()
        self.notes, self.facts, self.looked, self.shut = notes, facts, looked, shut
        self.wanted = threading.Event()
        self.picture: dict[str, Any] | None = None
        self.closing = False
        self.tries = 0
        self.process: nursery.Started | None = None
        self._open()
        threading.Thread(target=self._show, daemon=True).start()

    def _open(self) -> None:
        ours, theirs = wire_pair()
        fd = theirs.fileno()
        self.process = nursery.start("lucid_anvil.engine.doorman", ["--fd", str(fd)], [fd])
        theirs.close()
        self.wire: Wire = ours
        ours.send(b"T", self.token.encode())
        until = time.monotonic() + OPENS_IN
        if not ours.ready(OPENS_IN):
            raise OSError("the door did not open")
        kind, payload = ours.receive()
        assert kind == b"P" and time.monotonic() < until + 1
        self.port = struct.unpack("<I", payload)[0]
        for note in self.notes:
            put_note(note, {"port": self.port, "token": self.token, "pid": os.getpid(), **self.facts})
        threading.Thread(target=self._hear, args=(ours,), daemon=True).start()

    def publish(self, picture: dict[str, Any]) -> None:
        """The newest picture; an older one that was not sent yet is dropped."""
        self.picture = picture
        self.wanted.set()

    def _show(self) -> None:
        while not self.closing:
            self.wanted.wait()
            self.wanted.clear()
            picture = self.picture
            if picture is None or self.closing:
                continue
            with contextlib.suppress(OSError):
                self.wire.send(b"B", json.dumps(picture, allow_nan=False, default=float).encode())

    def _hear(self, wire: Wire) -> None:
        with contextlib.suppress(EOFError, OSError):
            while True:
                kind, payload = wire.receive()
                if kind == b"L":
                    self.looked()
                elif kind == b"O":
                    self.orders.put(json.loads(payload))
        if self.closing:
            return
        self.tries += 1
        try:
            if self.tries > TRIES:
                raise OSError("it was killed again and again")
            self._open()
            self.wanted.set()
        except (OSError, EOFError) as problem:
            self.shut(str(problem))

    def close(self) -> None:
        self.closing = True
        self.wanted.set()
        for note in self.notes:
            take_note_away(note)
        with contextlib.suppress(OSError):
            self.wire.send(b"Q")
        if self.process is not None:
            with contextlib.suppress(subprocess.TimeoutExpired):
                self.process.wait(1.0)
            if self.process.poll() is None:
                self.process.send_signal(signal.SIGKILL)
