"""What a microphone check is compared with, from the ledger."""

from __future__ import annotations

from typing import Any

from ...lab.place import Lab


def check_settings(lab: Lab, serial: str) -> dict[str, Any]:
    """What a microphone check compares with: the last entry of the ledger, and the last calibration among them."""
    ledger = lab.ledger()
    history = ledger.entry(serial).history
    ledger.close()
    made: dict[str, Any] = {}
    if history:
        made["previous_sensitivity"] = f"{history[-1].sensitivity!r} mV/Pa"
    calibrated = [c for c in history if not c.as_state.startswith("check")]
    if calibrated:
        made["calibrated_sensitivity"] = f"{calibrated[-1].sensitivity!r} mV/Pa"
    return made
