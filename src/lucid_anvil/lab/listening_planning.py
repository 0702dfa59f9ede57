"""Making plans that only listen: microphone check, impact response, orders over speed."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from ..contracts import registry
from .place import Lab
from .plans import put_plan
from .shaker_planning import record_of_entry, sensors_of
from .textfiles import load_yaml


def listening_plan(lab: Lab, title: str, article: str, method: str, settings: dict[str, Any], rig_file: Path
                   ) -> dict[str, Any]:  # fmt: skip
    """A plan as data, with the ledger's sensors on the rig's channels."""
    facts = lab.facts
    return {
        "lucid-anvil-plan": 1, "title": title, "job": facts.job, "article": article, "rig": str(rig_file),
        "customer": facts.customer, "customer_address": facts.customer_address, "operator": facts.operator,
        "sensors": sensors_of(lab, rig_file), "walk_round": [dict(c) for c in registry.get(method).walk_round],
        "steps": [{"method": method, "settings": settings}],
    }  # fmt: skip


def write_listening_plan(folder: Path, name: str, plan: dict[str, Any]) -> Path:
    folder.mkdir(parents=True, exist_ok=True)
    return put_plan(folder / f"{name}.plan.yaml", plan)


def renew_sensor(lab: Lab, serial: str, folder: Path) -> list[Path]:
    """Put a sensor's newest entry of the ledger into the plans below a folder that use it; which ones were changed.
    Takes keep the plan that they were made with."""
    ledger = lab.ledger()
    record = record_of_entry(ledger.entry(serial)).model_dump(exclude_none=True)
    ledger.close()
    changed = []
    for place in sorted(folder.rglob("*.plan.yaml")):
        plan = load_yaml(place)
        roles = [r for r, s in (plan.get("sensors") or {}).items() if s.get("serial") == serial]
        if not roles or all(plan["sensors"][r] == record for r in roles):
            continue
        for role in roles:
            plan["sensors"][role] = dict(record)
        put_plan(place, plan)
        changed.append(place)
    return changed


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
