"""A rig's stand-in instruments alone, on stated ports, for anyone's client: nothing is driven, time goes by."""

from __future__ import annotations

import contextlib
import threading
import time
from collections.abc import Callable

import numpy as np

from ...core.errors import BadInput
from ..model import Rig
from .choosing import bench_of


def serve_alone(
    rig: Rig, port: int, say: Callable[[str], None], stop: threading.Event | None = None
) -> None:  # fmt: skip
    """Serve until `stop`, or Ctrl+C. Raises BadInput for a rig without instruments, or a port that is taken."""
    bench = bench_of(rig)
    if not 0 <= port <= 65000:
        raise BadInput(f"--port {port}: a port lies between 1 and 65000.")
    try:
        desk = bench.served(port)
    except OSError as problem:
        raise BadInput(f"--port {port}: it can't be had ({problem.strerror}): choose another.") from None
    if desk is None:
        raise BadInput(f"{rig.name}: this rig has no stand-in instruments: an amplifier's bench and a chamber have.")
    for name, at in desk.ports.items():
        say(f"{name}: 127.0.0.1:{at}")
    ended = stop or threading.Event()
    silence, span = np.zeros(rig.front_end.block), rig.front_end.block / rig.front_end.rate
    due = time.monotonic()
    with contextlib.suppress(KeyboardInterrupt):
        while not ended.is_set():
            bench.play(silence)
            due = max(due + span, time.monotonic() - 1.0)
            ended.wait(max(0.0, due - time.monotonic()))
    desk.close()
