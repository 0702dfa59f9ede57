"""The keeper's desk of instruments: looked at ten times a second, set when asked, told on when they fall silent.

In real pace a thread does it, so that an instrument that takes its time never keeps a drive block waiting. In simulated
time the keeper itself looks, in lock-step, so that a run is the same each time.
"""

from __future__ import annotations

import contextlib
import queue
import threading
import time
from collections.abc import Mapping
from typing import Any, Protocol

from ..rig.chamber import ChamberDesk, ChamberPart
from ..rig.gauge import GaugeDesk, GaugePart
from ..rig.instruments import Desk, Trouble

EVERY = 0.1
"""s between two looks"""
TRIES = 2
"""Looks in a row that may fail before it is told"""


class Instruments(Protocol):
    """What the keeper needs of a desk."""

    def look(self) -> dict[str, Any]: ...

    def put(self, name: str, value: Any) -> None: ...


class Held(Instruments, Protocol):
    """Instruments behind a line that can be let go."""

    @property
    def answers(self) -> list[tuple[str, str, float]]: ...

    def close(self) -> None: ...


class Watched:
    """A desk, what it last showed, and what is wrong with it."""

    def __init__(self, desk: Held, pace: str) -> None:
        self.desk, self.pace = desk, pace
        self.answers = desk.answers
        """Who is there, by name, and how long it took to say so"""
        self.shown: dict[str, Any] | None = None
        self.trouble: str | None = None
        self.failed = 0
        self.looked = -EVERY
        self.wishes: queue.Queue[tuple[str, Any] | None] = queue.Queue()
        if pace == "real":
            threading.Thread(target=self._serve, daemon=True).start()

    def at(self, t: float) -> None:
        """It is t [s] of simulated time; in real pace the thread has its own clock."""
        if self.pace != "real" and t - self.looked >= EVERY - 1e-9:
            self.looked = t
            self._try(self._look)

    def put(self, name: str, value: Any) -> None:
        """Set something, now or as soon as the thread comes to it."""
        if self.pace == "real":
            self.wishes.put((name, value))
        else:
            self._try(lambda: self.desk.put(name, value))
            self._try(self._look)

    def _look(self) -> None:
        self.shown = self.desk.look()

    def _try(self, work: Any) -> None:
        try:
            work()
            self.failed, self.trouble = 0, None
        except Trouble as trouble:
            self.failed += 1
            if self.failed >= TRIES:
                self.trouble = str(trouble)

    def _serve(self) -> None:
        while True:
            began = time.monotonic()
            with contextlib.suppress(queue.Empty):
                while True:
                    wish = self.wishes.get_nowait()
                    if wish is None:
                        return
                    self._try(lambda wish=wish: self.desk.put(*wish))  # type: ignore[misc]
            self._try(self._look)
            time.sleep(max(EVERY - (time.monotonic() - began), 0.005))

    def close(self) -> None:
        if self.pace == "real":
            self.wishes.put(None)
        self.desk.close()


def watched(
    ports: Mapping[str, Any], channels: list[str], pace: str, chamber: ChamberPart | None = None,
    gauge: GaugePart | None = None,
) -> Watched:  # fmt: skip
    """The instruments that a device names by host and port. Raises Trouble."""
    if chamber is not None and "chamber" in ports:
        host, port = ports["chamber"]
        return Watched(ChamberDesk(chamber, str(host), int(port)), pace)
    if gauge is not None and "gauge" in ports:
        host, port = ports["gauge"]
        return Watched(GaugeDesk(gauge, str(host), int(port)), pace)
    where = {name: (str(host), int(port)) for name, (host, port) in ports.items()}
    for needed in ("supply", "load"):
        if needed not in where:
            raise Trouble(f"The rig file names no {needed} among its instruments: add its host and port.")
    return Watched(Desk(where, channels), pace)
