"""Performing without driving: sensors listen while a person does something."""

from __future__ import annotations

import numpy as np

from .base import Facts, Performance, Want


def listen(facts: Facts, seconds: float, kind: str) -> Performance:
    """Record for `seconds` with the source at zero; the stretch is marked as `kind`. An order `skip` ends it sooner."""
    blocks = max(1, round(seconds * facts.rate / facts.block))
    silence = np.zeros(facts.block)
    got = yield Want(silence, marks=({"t": 0.0, "kind": kind, "start": 0.0, "stop": seconds},))
    for k in range(blocks):
        if any(o["order"] == "skip" for o in got.orders):
            return
        levels = {role: float(np.sqrt(np.mean(x**2))) for role, x in got.channels.items()}
        got = yield Want(
            silence, live={"stage": "listening", "at": k * facts.block / facts.rate, "of": seconds, "levels": levels}
        )
