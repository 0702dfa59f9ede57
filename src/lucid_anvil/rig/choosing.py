"""Which rig a sensor hangs on, and the rig as a take kept it."""

from __future__ import annotations

from pathlib import Path

from ..contracts.settings import check
from ..core.errors import BadInput
from ..lab.textfiles import load_yaml
from .model import Rig, load_rig


def rig_for(usual: Path, serial: str) -> Path:
    """The first rig file, the usual one before its neighbours, whose unit channel has that sensor. Raises BadInput."""
    others = sorted(p for p in usual.parent.glob("*.rig.yaml") if p != usual)
    for place in [usual, *others] if usual.exists() else others:
        if any(c.role == "unit" and c.sensor == serial for c in load_rig(place).channels):
            return place
    raise BadInput(f"No rig has {serial} on its unit channel: hook it up there (Ctrl+R), or name it in the rig's file.")


def rig_of(take_folder: Path) -> Rig:
    """The rig as it stood when the take was made."""
    held = load_yaml(take_folder / "rig.yaml")
    held.pop("calibrations", None)
    return check(Rig, held, str(take_folder / "rig.yaml"))
