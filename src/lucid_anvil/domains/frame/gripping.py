"""The force's zero with the specimen in one grip, and what closing the other loads it with (ISO 6892-1: the zero is
set after the test piece hangs in one grip, before the other is closed)."""

from __future__ import annotations

from collections import deque
from collections.abc import Generator
from typing import TYPE_CHECKING, Any

import numpy as np

from ...contracts.method import Got, Want

if TYPE_CHECKING:
    from .tension_run import Pull

SECONDS = 1.0
"""over which a force is told"""
SMALL = 0.005
"""Share of the frame's force that gripping may load it with before that is pointed at"""
FINEST = 2e-5
"""Share of the frame's force in which it is told"""
HANG = "Specimen in one grip only, the other end free"
CLOSE = "Close the second grip"


def grip(pull: Pull, got: Got) -> Generator[Want, Got, Got]:
    """Zero, then the second grip, the crosshead at rest; the load that it brings stands in `pull.gripped`."""
    facts = pull.facts
    zero, got = yield from _asked(pull, got, HANG, {"grip": False}, 0.0)
    pull.zero = {"force": zero / facts.sensitivity["force"]}
    limit = SMALL * facts.limits["frame_force"]
    said = CLOSE
    while True:
        volts, got = yield from _asked(pull, got, said, {"grip": True}, limit)
        step = FINEST * facts.limits["frame_force"]
        pull.gripped = step * round(pull.sign * (volts / facts.sensitivity["force"] - pull.zero["force"]) / step)
        if abs(pull.gripped) <= limit or said != CLOSE:
            return got
        # Said once; a person who goes on all the same has seen it, and the paper has the figure.
        said = f"{CLOSE}: {pull.gripped:+.4g} N stand on it. Move the crosshead until that is small, or go on as it is"


def _asked(
    pull: Pull, got: Got, ask: str, sent: dict[str, Any], limit: float
) -> Generator[Want, Got, tuple[float, Got]]:
    """V of the force over the last second, once a person says that it is done."""
    facts = pull.facts
    newest = deque[float](maxlen=max(round(SECONDS * facts.rate / facts.block), 1))
    first, settings, done = got.start, dict(sent), False
    while not done or len(newest) < (newest.maxlen or 1):
        if any(o.get("order") == "go" for o in got.orders) and not done:
            done = True
            newest.clear()  # what is told is of after that
        elif got.start > first:
            newest.append(float(np.mean(got.channels["force"])))
        force = pull.units({"force": got.channels["force"]})["force"]
        now = float(np.mean(force))
        live: dict[str, Any] = {"item": 0, "at": 0.0, "of": 1.0, "shown": {"Force": f"{now:.4g} N"}}
        if limit:
            top = max(10 * limit, 1.2 * abs(now))
            live["gauge"] = {"value": now, "wanted": 0.0, "within": limit, "low": -top, "top": top, "unit": "N",
                             "word": "steady" if abs(now) <= limit else "lower" if now > 0 else "rise"}  # fmt: skip
        if not done:
            live |= {"stage": "asking", "ask": ask}
        got = yield Want(np.zeros(facts.block), live=live, settings=settings or None)
        settings = {}
    return float(np.mean(newest)), got
