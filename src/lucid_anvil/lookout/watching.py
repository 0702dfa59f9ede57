"""What the Lookout shows: every run of this user, as small pictures for a page, asked for once however many look."""

from __future__ import annotations

import contextlib
import math
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from ..contracts import registry
from ..contracts.finding import clean_numbers
from ..contracts.settings import check
from ..core.errors import BadInput
from ..engine import launch
from ..lab.takes import Take
from ..protocol.messages import Board

EVERY = 0.5
"""s between two looks at a run"""
ANSWER = 2.0
"""s that a run may take to answer"""
LOST = 3.0
"""s without an answer after which a bench counts as lost"""
KEPT = 12 * 3600.0
"""s that an ended or lost run stays on the page"""
POINTS = 240
"""Points of a curve at most: what a telephone can show"""
EVENTS = 8
ENDED = ("done", "failed")


@dataclass(frozen=True)
class Planned:
    """What a take's plan tells of its run."""

    seconds: float | None = None
    """that its course takes; None where it has none"""
    axes: Mapping[str, tuple[str, str]] = field(default_factory=dict)
    """What stands along and up, by the key of a curve"""


@dataclass
class Seen:
    """One run as it was seen last."""

    address: launch.Address
    heard: float = field(default_factory=time.time)
    """Wall time of the last answer"""
    picture: dict[str, Any] = field(default_factory=dict)
    plan: Planned | None = None
    ended: float | None = None
    """Wall time at which it was first seen to be over"""
    gone: bool = False
    """Its process is no longer there"""


class Watcher:
    """Looks at every run, each in its turn; a run that does not answer keeps nobody else waiting for long."""

    def __init__(self, after: Callable[[Sequence[tuple[int, Seen]]], None] | None = None) -> None:
        """`after`: called with all runs after each look."""
        self.after = after
        self.seen: dict[int, Seen] = {}
        self.lock = threading.Lock()
        self.over = threading.Event()

    def go_on(self) -> None:
        """Look until told to stop."""
        while not self.over.wait(EVERY):
            self.look()
            if self.after is not None:
                self.after(list(self.seen.items()))

    def look(self) -> None:
        """Once at every run."""
        alive = {a.pid: a for a in launch.runs()}
        with self.lock:
            for pid, address in alive.items():
                if pid not in self.seen:
                    self.seen[pid] = Seen(address)
            held = list(self.seen.items())
        for pid, seen in held:
            if pid not in alive:
                seen.gone = True
                if time.time() - seen.heard > KEPT:
                    with self.lock:
                        self.seen.pop(pid, None)
                continue
            try:
                board = launch.get_board(seen.address, ANSWER, quiet=True)
            except (OSError, ValueError, TypeError, KeyError):
                continue
            if seen.plan is None and board.state not in ("starting", "walk-round"):
                seen.plan = planned(Path(seen.address.take))
            seen.heard, seen.picture = time.time(), picture(board, seen.plan or Planned())
            if board.state in ENDED and seen.ended is None:
                seen.ended = seen.heard

    def shown(self) -> dict[str, Any]:
        """What a page gets: runs, those that go on first, then the newest."""
        now = time.time()
        with self.lock:
            held = list(self.seen.items())
        made = []
        for pid, seen in held:
            if not seen.picture:
                continue
            over = seen.picture["state"] in ENDED
            silent = now - seen.heard
            lost = not over and (seen.gone or silent > LOST)
            made.append({**seen.picture, "run": pid, "take": take_name(seen.address.take), "lost": lost,
                         "ended": over, "silent": round(silent, 1), "heard": seen.ended or seen.heard})  # fmt: skip
        made.sort(key=lambda r: (r["ended"], -r["heard"]))
        return {"now": now, "runs": made}

    def address(self, pid: int) -> launch.Address:
        """The door of a run that the page names. Raises BadInput where it is gone."""
        with self.lock:
            seen = self.seen.get(pid)
        if seen is None or seen.gone:
            raise BadInput("This run is not there any more.")
        return seen.address


def take_name(take: str) -> str:
    """A take as a page names it: its folder and the one that it lies in; nothing of whose home that is."""
    return "/".join(Path(take).parts[-2:])


def planned(take: Path) -> Planned:
    """What a take's plan tells; as little as that is where it can't be read."""
    seconds, axes = None, {}
    with contextlib.suppress(Exception):  # a page shows no time left rather than nothing
        step = Take(take).plan().step
        method = registry.get(step.method)
        axes = {c: (v.x_label, v.y_label) for v in method.views for c in v.curves}
        seconds = sum(i.duration for i in method.course(check(method.Settings, dict(step.settings), "plan"))) or None
    return Planned(seconds, axes)


def picture(board: Board, plan: Planned) -> dict[str, Any]:
    """A board as small as a page needs it."""
    left = None if plan.seconds is None or board.state != "running" else max(plan.seconds - board.t, 0.0)
    trip = board.trip or {}
    made = {
        "title": board.title, "state": board.state, "pace": board.pace, "t": board.t, "left": left,
        "verdict": board.verdict, "message": board.message, "tripped": bool(trip),
        "checks": [sum(c.done for c in board.checks), len(board.checks)],
        "tiles": [{"title": x.title, "value": x.value, "note": x.note, "used": x.used, "mark": x.mark, "alarm": x.alarm}
                  for x in board.tiles],
        "rooms": [{"label": r.label, "used": r.used, "value": r.value, "limit": r.limit, "unit": r.unit,
                   "action": r.action} for r in sorted(board.rooms, key=lambda r: -r.used)],
        "events": board.events[-EVENTS:], "curve": curve(board, plan), "room": board.room,
    }  # fmt: skip
    cleaned: dict[str, Any] = clean_numbers(made)
    return cleaned


def curve(board: Board, plan: Planned) -> dict[str, Any] | None:
    """The curve that grows, thinned to what a page shows; None while there is none."""
    if board.trace:
        rows = sorted(board.trace.values())
        return thinned([r[0] for r in rows], {"control": [r[1] for r in rows]}, "Hz", "m/s²", True, True)
    spectrum = board.spectrum
    if spectrum.get("frequency") and spectrum.get("control"):
        lines = {k: spectrum[k] for k in ("control",) if isinstance(spectrum.get(k), list)}
        return thinned(spectrum["frequency"], lines, "Hz", "(m/s²)²/Hz", True, True)
    rows_of = [p for p in board.points if isinstance(p.get("frequency"), (int, float))]
    for key, unit in (("deviation", "%"), ("sensitivity", "")):
        there = sorted((p["frequency"], p[key]) for p in rows_of if isinstance(p.get(key), (int, float)))
        if there:
            return thinned([f for f, _y in there], {key: [y for _f, y in there]}, "Hz", unit, True, False)
    for key, held in (board.live.get("curves") or {}).items():
        found = next((v for v in held.values() if len(v) == 2 and len(v[0]) > 1), None)
        if found is not None:
            return thinned(found[0], {key: found[1]}, *plan.axes.get(key, ("", "")), False, False)
    return None


def thinned(
    x: Sequence[float], lines: Mapping[str, Sequence[float]], x_unit: str, y_unit: str, x_log: bool, y_log: bool
) -> dict[str, Any]:
    """A curve with at most `POINTS` points: of each stretch its least and its greatest, so that no peak is lost."""
    size = len(x)
    keep = list(range(size))
    if size > POINTS:
        first = np.array([math.nan if v is None else float(v) for v in next(iter(lines.values()))])
        edges = np.linspace(0, size, POINTS // 2 + 1).astype(int)
        picked = {0, size - 1}
        for a, b in zip(edges, edges[1:], strict=False):
            if not np.all(np.isnan(first[a:b])):
                picked |= {a + int(np.nanargmin(first[a:b])), a + int(np.nanargmax(first[a:b]))}
        keep = sorted(picked)
    made = {k: [y[i] for i in keep] for k, y in lines.items() if len(y) == size}
    return {"x": [x[i] for i in keep], "lines": made, "x_unit": x_unit, "y_unit": y_unit, "x_log": x_log,
            "y_log": y_log}  # fmt: skip
