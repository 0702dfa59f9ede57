"""Whether the gauge that a comparison rests on answers, before anything is driven."""

from __future__ import annotations

from ...contracts.check import Looked


def answers(now: Looked) -> tuple[bool, str]:
    """Done where no gauge is asked for, or it shows a number."""
    course = getattr(now.settings, "course", None)
    if not getattr(course, "gauge", False):
        return True, "no gauge is asked for"
    if now.trouble:
        return False, now.trouble
    if now.instruments is None:
        return False, "waiting for the gauge"
    if "gauge" not in now.instruments:
        return False, "the rig has no gauge: give its host and port"
    return True, f"{float(now.instruments['gauge']):.6g} at rest"
