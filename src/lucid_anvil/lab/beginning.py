"""A lab's beginning: an empty folder becomes one, with its ledger; and the labs that were open lately."""

from __future__ import annotations

import contextlib
import datetime
import json
import os
from importlib.resources import files
from pathlib import Path

from ..core.errors import BadInput
from .place import Lab, open_lab
from .textfiles import dump_yaml, whole_write

FOLDERS = ("jobs", "certificates", "rigs", "run")
RIGS = (
    "comparison", "charge", "shaker", "hammer", "pump", "microphone", "amplifier", "frame", "pulser", "driver",
    "actuator", "press", "pressure", "horn", "dma", "headset", "handset", "earpiece",
)  # fmt: skip
MOST = 12
"""Labs that are remembered"""


def is_free(folder: Path) -> bool:
    """Whether a lab may begin there: the folder is missing or empty."""
    return not folder.exists() or (folder.is_dir() and not any(folder.iterdir()))


def begin_lab(
    folder: Path, name: str, address: list[str], initials: str, stand_ins: bool, today: datetime.date | None = None
) -> Lab:
    """Make a lab in a folder that is missing or empty. `stand_ins`: with benches of stand-ins and their sensors, to
    practise on. Raises BadInput before anything is made where something is missing or in the way."""
    if not name.strip():
        raise BadInput("A lab needs a name: it stands on its papers.")
    if not initials.strip():
        raise BadInput("Give the initials of who works here: they sign the walk-round.")
    if not is_free(folder):
        raise BadInput(f"{folder}: the folder is not empty and holds no lab: choose another, or an empty one.")
    try:
        for part in FOLDERS:
            (folder / part).mkdir(parents=True, exist_ok=True)
    except OSError as problem:
        raise BadInput(f"{folder}: it can't be made ({problem.strerror}): choose another place.") from None
    facts = {
        "lucid-anvil-lab": 1, "name": name.strip(), "address": [a for a in address if a.strip()],
        "operator": initials.strip(), "signatory": initials.strip(), "certificate_prefix": prefix_of(name),
    }  # fmt: skip
    whole_write(folder / "lab.yaml", dump_yaml(facts))
    lab = open_lab(folder)
    lab.ledger().close()  # made now: a place that can't hold one is told at once
    if stand_ins:
        from .demo import fill_ledger

        source = files("lucid_anvil") / "data" / "demo" / "rigs"
        for rig in RIGS:
            text = (source / f"{rig}.rig.yaml").read_text(encoding="utf-8")
            whole_write(folder / "rigs" / f"{rig}.rig.yaml", text)
        fill_ledger(lab, today or datetime.date.today())
    return lab


def prefix_of(name: str) -> str:
    """What certificate numbers begin with until the lab says otherwise: its initials."""
    letters = "".join(w[0] for w in name.split() if w[0].isalpha()).upper()
    return letters[:4] or "C"


# --- labs lately open -------------------------------------------------------------------------------------------------


def memory() -> Path:
    """Where this user's labs are remembered: LUCID_ANVIL_LABS, else the state folder."""
    given = os.environ.get("LUCID_ANVIL_LABS")
    if given:
        return Path(given)
    state = os.environ.get("XDG_STATE_HOME")
    return (Path(state) if state else Path.home() / ".local" / "state") / "lucid-anvil" / "labs.json"


def lately() -> list[Path]:
    """Labs that were open, the last one first; those that are gone are left out."""
    try:
        held = json.loads(memory().read_text(encoding="utf-8"))
        places = [Path(p) for p in held if isinstance(p, str)]
    except (OSError, ValueError, TypeError):
        return []
    return [p for p in places if (p / "lab.yaml").exists()]


def remember(folder: Path) -> None:
    """Put a lab first among those lately open. A memory that can't be written costs nothing else."""
    places = [folder.resolve(), *(p for p in lately() if p != folder.resolve())][:MOST]
    with contextlib.suppress(OSError):
        memory().parent.mkdir(parents=True, exist_ok=True)
        whole_write(memory(), json.dumps([str(p) for p in places], indent=1))
