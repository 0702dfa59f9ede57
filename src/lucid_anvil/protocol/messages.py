"""Message types of the door, and of the line between conductor and keeper."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

STATES = ("starting", "walk-round", "preparing", "running", "easing", "reading", "done", "failed")
"""States of a run, in their order."""


@dataclass(frozen=True)
class Room:
    """How much room a guard has left. `used` is the share of its limit, 0 to 1 and beyond."""

    key: str
    label: str
    used: float
    value: float
    limit: float | None
    """None while there is none: an abort edge before the level is up"""
    unit: str
    action: str


@dataclass(frozen=True)
class Trip:
    """A guard that acted."""

    guard: str
    label: str
    action: str
    channel: str | None
    t: float
    """s, start of the block in which it was seen"""
    block: int
    value: float
    limit: float
    unit: str

    @property
    def sentence(self) -> str:
        """What tripped, where, when and by how much."""
        where = f" on {self.channel}" if self.channel else ""
        if not self.unit:
            return f"{self.label}{where} at {self.t:.2f} s ({self.action})"
        return (
            f"{self.label}{where} at {self.t:.2f} s: {self.value:.3g} {self.unit} against a limit of"
            f" {self.limit:.3g} {self.unit} ({self.action})"
        )


@dataclass(frozen=True)
class CheckState:
    """One check of the walk-round."""

    key: str
    text: str
    kind: str
    """sensed or signed"""
    done: bool
    why: str
    """What was seen, or why it is not done yet."""
    by: str | None = None


@dataclass(frozen=True)
class Tile:
    """One tile of the chain."""

    key: str
    title: str
    detail: str
    value: str
    note: str
    used: float
    """0 to 1 of the bar"""
    mark: float | None
    """Where on the bar the limit stands"""
    side: str
    """drive or measure"""
    alarm: bool = False


@dataclass
class Board:
    """All that a face may want to show of a run, as one snapshot."""

    state: str = "starting"
    title: str = ""
    pace: str = "real"
    t: float = 0.0
    speed: float = 0.0
    """Simulated seconds per second of wall time."""
    checks: list[CheckState] = field(default_factory=list)
    tiles: list[Tile] = field(default_factory=list)
    rooms: list[Room] = field(default_factory=list)
    live: dict[str, Any] = field(default_factory=dict)
    points: list[dict[str, Any]] = field(default_factory=list)
    wave: dict[str, Any] = field(default_factory=dict)
    probe: dict[str, Any] = field(default_factory=dict)
    """What the probe run said."""
    look: dict[str, Any] = field(default_factory=dict)
    """Every input, where a method wants it looked at: `t` [s] and `f` [Hz] of its pictures, and by role a dictionary of
    figures in volts."""
    trace: dict[str, list[float]] = field(default_factory=dict)
    """Measured curve so far: by grid number, frequency, control, drive and the responses."""
    spectrum: dict[str, Any] = field(default_factory=dict)
    """Averaged spectra of a random run, or the last pass of a time history."""
    identities: dict[str, str] = field(default_factory=dict)
    """Memories (hex) of the sensors that carry a data sheet, by role."""
    who: list[tuple[str, str, float]] = field(default_factory=list)
    """Front end and instruments that answer: name, what it says it is, and the time [s] that it took"""
    room: dict[str, float] = field(default_factory=dict)
    instruments: dict[str, Any] | None = None
    """What supply, load bank and meter show"""
    take: str | None = None
    plan: str | None = None
    unread: str = ""
    """Why the run would not go by the plan as its file now stands; empty when it would"""
    trip: dict[str, Any] | None = None
    finding: str | None = None
    verdict: str | None = None
    message: str | None = None
    events: list[str] = field(default_factory=list)
    disk_free: float = 0.0

    def as_json(self) -> dict[str, Any]:
        """As plain data. What is plain already is shared with the board, not copied: clean it before it is let go."""
        made = dict(vars(self))
        for key in ("checks", "tiles", "rooms"):
            made[key] = [dict(vars(one)) for one in made[key]]
        return made


def board_from(held: dict[str, Any]) -> Board:
    """A board read back from JSON; unknown keys of a newer conductor are left out."""
    known = {k: v for k, v in held.items() if k in Board.__dataclass_fields__}
    board = Board(**known)
    board.checks = [CheckState(**c) for c in held.get("checks", [])]
    board.tiles = [Tile(**c) for c in held.get("tiles", [])]
    board.rooms = [Room(**c) for c in held.get("rooms", [])]
    return board
