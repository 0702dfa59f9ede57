"""Whether the chamber that a plan needs answers, before anything moves."""

from __future__ import annotations

from ...contracts.check import Looked


def answers(now: Looked) -> tuple[bool, str]:
    """Done where no temperature is asked for, or its controller tells one."""
    play = getattr(now.settings, "play", None)
    if play is None or (play.temperature is None and play.soaks == [None]):
        return True, "no temperature is asked for"
    if now.trouble:
        return False, now.trouble
    if now.instruments is None:
        return False, "waiting for the chamber"
    if "chamber" not in now.instruments:
        return False, "the rig has no chamber: give its host and port"
    return True, f"{float(now.instruments['chamber']):.1f} °C"
