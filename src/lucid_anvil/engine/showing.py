"""What the faces see of a run: the board kept up to date, and sent no more often than eyes can follow."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from typing import Any

import numpy as np

from ..contracts.finding import clean_numbers
from ..core.signal.sinefit import Floats
from ..protocol.messages import Board, Room
from .preparing import Prepared
from .tiles import chain, looked, picture

PICTURES_EVERY = 0.08
"""s of wall time between two pictures"""
HELD = 6
"""Blocks that a picture of the signals may reach back"""


class Showing:
    """A board, and the last picture of it as plain data."""

    def __init__(self, board: Board, roles: list[str], block: int, rate: float) -> None:
        self.board, self.roles, self.block, self.rate = board, roles, block, rate
        self.shown: dict[str, Any] = clean_numbers(board.as_json())
        self.door: Callable[[dict[str, Any]], None] | None = None
        """Where pictures go"""
        self.shown_at = 0.0
        self.recent: list[Floats] = []
        self.bias: dict[str, float] = {}
        """V by role, as the front end last told them"""
        self.traced = -1
        """Item of the course that the board's trace belongs to."""

    def set(self, **changes: Any) -> None:
        """Change the board, and show it at once."""
        for key, value in changes.items():
            setattr(self.board, key, value)
        self._shown()

    def _shown(self) -> None:
        self.shown = clean_numbers(self.board.as_json())
        if self.door is not None:
            self.door(self.shown)

    def hear(self, rows: Floats) -> None:
        """Keep one block of all channels for the next picture."""
        self.recent = [*self.recent[1 - HELD :], rows]

    def live(self, figures: Mapping[str, Any]) -> None:
        """A method's figures: points and curves grow, the rest stands in place of what was."""
        live, board = dict(figures), self.board
        point = live.pop("point", None)
        if "f" in live:
            self._trace(live)
        for key in ("spectrum", "history"):
            if key in live:
                board.spectrum = live.pop(key)
        if "probe" in live:
            board.probe = live.pop("probe")
        if point is not None:
            board.points = [p for p in board.points if p["frequency"] != point["frequency"]] + [point]
        kept = {k: board.live[k] for k in ("figures",) if k in board.live and k not in live}
        board.live = {**kept, **live}

    def _trace(self, live: dict[str, Any]) -> None:
        """Grow the measured curve of the stretch that runs: one point a step of a forty-eighth of an octave."""
        key = round(48 * np.log2(max(float(live["f"]), 1e-3)))
        item = live.get("item", 0)
        if item != self.traced or live.get("stage") not in ("sweep", "held"):
            if item != self.traced:
                self.board.trace, self.traced = {}, item
            if live.get("stage") not in ("sweep", "held"):
                return
        self.board.trace[str(key)] = [
            float(f"{v:.5g}")
            for v in (live["f"], live["control"], live["drive"], *live.get("responses", []), *live["phases"])
        ]

    def due(self) -> bool:
        """Whether it is time for a picture; while the drive comes down always, since the last one is of the rest."""
        now = time.monotonic()
        if now - self.shown_at < PICTURES_EVERY and self.board.state != "easing":
            return False
        self.shown_at = now
        return True

    def publish(self, prepared: Prepared, message: Mapping[str, Any]) -> None:
        """A picture of the moment: signals, tiles, rooms, and what the keeper's message says."""
        rows, board = np.concatenate(self.recent, axis=1), self.board
        samples = {role: rows[i] for i, role in enumerate(self.roles)}
        latest = {role: rows[i, -self.block :] for i, role in enumerate(self.roles)}
        running = board.state == "running"
        board.rooms = [Room(**r) for r in message["rooms"]]
        live = board.live if running else {}
        board.tiles = chain(prepared, latest, rows[-1, -self.block :], board.rooms, live, board.instruments)
        board.wave = picture(samples, self.rate, board.live.get("frequency") if running else None)
        if prepared.method.looks:
            board.look = looked(samples, self.rate, self.bias, message.get("overload", ()))
        board.room = dict(zip(("temperature", "humidity", "supply"), message["room"], strict=True))
        board.disk_free = float(message["free"])
        self._shown()
