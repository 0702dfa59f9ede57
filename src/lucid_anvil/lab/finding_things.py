"""What a lab holds, to be found by typing: plans, takes, sensors, papers."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from .place import Lab
from .takes import REMARKS, Take

MOST = 60
"""Results that are shown"""


@dataclass(frozen=True)
class Thing:
    """One thing that can be found."""

    kind: str
    """plan, take, sensor, paper, rig, action or help"""
    title: str
    detail: str
    key: str
    """What it is opened by: a path, a serial number, or an action's name"""
    words: str = ""
    """More that it is found by"""

    @property
    def text(self) -> str:
        return f"{self.title} {self.detail} {self.kind} {self.words}".lower()


def things(lab: Lab) -> list[Thing]:
    """Everything in a lab's folder and ledger; folders are walked once, no record is opened."""
    ledger = lab.ledger()
    entries = ledger.entries()
    ledger.close()
    made = [
        Thing("sensor", e.sensor.serial, f"{e.sensor.kind} {e.sensor.maker} {e.sensor.model}".strip(), e.sensor.serial,
              f"{e.sensor.owner} {e.sensor.note}")
        for e in entries
    ]  # fmt: skip
    for folder, below, names in os.walk(lab.jobs):
        if "plan.yaml" in names:
            below.clear()  # what lies inside a take is not looked at
        place = Path(folder)
        made += _of_folder(place, names, lab.jobs)
    rigs = (lab.folder / "rigs").glob("*.rig.yaml")
    made += [Thing("rig", p.name.removesuffix(".rig.yaml"), "", str(p)) for p in rigs]
    made += [Thing("paper", p.stem, "", p.stem) for p in lab.certificates.glob("*.pdf")]
    return made


def _of_folder(place: Path, names: Sequence[str], jobs: Path) -> Iterator[Thing]:
    parts = place.relative_to(jobs).parts
    where = " / ".join(parts[:-1])
    if "plan.yaml" in names and "events.jsonl" in names:
        said = Take(place).remark() if REMARKS in names else None
        more = f" · {said['name']}" if said and said["name"] else ""
        yield Thing("take", " · ".join(parts[-2:]) + more, where, str(place), said["text"] if said else "")
    for name in names:
        if name.endswith(".plan.yaml"):
            yield Thing("plan", name.removesuffix(".plan.yaml").replace("-", " "), " / ".join(parts), str(place / name))


def find(held: Sequence[Thing], text: str, most: int = MOST) -> list[Thing]:
    """Things in which every typed word is found; those whose title begins with the first come first, then actions and
    plans before takes."""
    words = text.lower().split()
    if not words:
        return [t for t in held if t.kind == "action"][:most]
    found = [t for t in held if all(w in t.text for w in words)]
    order = {"action": 0, "sensor": 1, "plan": 2, "rig": 3, "paper": 4, "help": 5, "take": 6}
    found.sort(key=lambda t: (not t.title.lower().startswith(words[0]), order[t.kind], t.title.lower()))
    return found[:most]
