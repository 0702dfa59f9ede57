"""Takes: folders that hold one performance of a plan, kept for ever."""

from __future__ import annotations

import datetime
import json
import os
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ..contracts.finding import Finding, from_json, to_text
from ..core.errors import BadInput
from ..formats import Recording, read
from ..formats.hdf5file import read_events
from .plans import Plan, load_plan
from .textfiles import whole_write

REMARKS = "remarks.jsonl"
"""What people say of a take, a line each; the last one counts"""
OF_THE_GUARDS = ("guards.jsonl", "device.jsonl", "after.npz")
"""What guards and device write down beside a take by themselves"""


def from_file(place: Path) -> Finding:
    """A finding as a take keeps it."""
    return from_json(json.loads(place.read_text(encoding="utf-8")))


@dataclass(frozen=True)
class Take:
    """One take on disk; nothing is held open."""

    folder: Path

    @property
    def name(self) -> str:
        return self.folder.name

    def plan(self) -> Plan:
        return load_plan(self.folder / "plan.yaml")

    def events(self) -> list[dict[str, Any]]:
        return read_events(self.folder / "events.jsonl")

    def recording(self) -> Recording:
        """Raw streams and marks. Raises BadInput when there are none."""
        return read(self.folder / "raw.h5")

    def status(self) -> str:
        """done, cut, or interrupted when it has no end (or is still running)."""
        end = next((e for e in reversed(self.events()) if e["kind"] == "end"), None)
        return str(end["status"]) if end else "interrupted"

    def reason(self) -> str | None:
        """Why it was cut: as the conductor wrote it, else as the keeper or the device did."""
        end = next((e for e in reversed(self.events()) if e["kind"] == "end"), None)
        if end:
            return str(end["reason"]) if end.get("reason") else None
        for name in ("guards.jsonl", "device.jsonl"):
            for event in read_events(self.folder / name):
                if event["kind"] in ("trip", "watchdog"):
                    return str(event.get("label") or event.get("reason"))
        return None

    def doubt(self) -> str | None:
        """Why it is doubtful: what was found out after it was made."""
        held = next((e for e in reversed(self.events()) if e["kind"] == "doubtful"), None)
        return None if held is None else str(held["why"])

    def position(self) -> dict[str, Any] | None:
        """Where its method last said that it could be continued from."""
        held = next((e for e in reversed(self.events()) if e["kind"] == "position"), None)
        return None if held is None else {k: v for k, v in held.items() if k not in ("kind", "t")}

    def remark(self) -> dict[str, Any] | None:
        """Name and text that a person gave it last, with who and when; None without."""
        held = read_events(self.folder / REMARKS)
        return held[-1] if held else None

    def say(self, name: str, text: str, by: str) -> None:
        """Give it a name and a remark; what was said before stays in its file."""
        if not by.strip():
            raise BadInput("Say who says it: initials.")
        told = {"kind": "remark", "name": name.strip(), "text": text.strip(), "by": by.strip(),
                "at": datetime.datetime.now().isoformat(timespec="seconds")}  # fmt: skip
        with (self.folder / REMARKS).open("a", encoding="utf-8") as file:
            file.write(json.dumps(told, ensure_ascii=False) + "\n")

    def finding_files(self) -> list[Path]:
        return sorted((self.folder / "findings").glob("*.json"))

    def counted(self) -> Path | None:
        """The counted finding: the newest unless another was chosen."""
        chosen = self.folder / "counted"
        if chosen.exists():
            place = self.folder / "findings" / chosen.read_text(encoding="utf-8").strip()
            if place.exists():
                return place
        files = self.finding_files()
        return files[-1] if files else None

    def choose(self, finding: Path) -> None:
        """Make one of its findings the counted one."""
        whole_write(self.folder / "counted", finding.name + "\n")

    def finding(self) -> Finding | None:
        place = self.counted()
        return from_file(place) if place else None

    def keep(self, finding: Finding) -> Path:
        """Store a finding beside the earlier ones."""
        folder = self.folder / "findings"
        folder.mkdir(exist_ok=True)
        while True:
            place = folder / f"{datetime.datetime.now():%Y%m%dT%H%M%S%f}.json"
            if not place.exists():
                break
        whole_write(place, to_text(finding))
        return place


def open_take(folder: Path) -> Take:
    """Raises BadInput when the folder is not a take."""
    if not folder.is_dir() or not (folder / "plan.yaml").exists():
        raise BadInput(f"{folder}: this is not a take: give a folder with plan.yaml and raw.h5.")
    return Take(folder)


def list_takes(parent: Path) -> list[Take]:
    """Takes below a folder, oldest first."""
    return _in_order(_walked(parent)[0])


def plans_and_takes(parent: Path) -> tuple[list[Path], dict[Path, list[Take]]]:
    """Plan files below a folder, and takes, oldest first, by the folder they lie in: walked once."""
    found, plans = _walked(parent)
    made: dict[Path, list[Take]] = {}
    for take in _in_order(found):
        made.setdefault(take.folder.parent, []).append(take)
    return sorted(plans), made


def _walked(parent: Path) -> tuple[list[tuple[float, str]], list[Path]]:
    """Times and folders of takes, and plan files. What lies inside a take is not looked at."""
    takes, plans = [], []
    for folder, below, names in os.walk(parent):
        if "plan.yaml" in names and "events.jsonl" in names:
            takes.append((os.stat(folder).st_mtime, folder))
            below.clear()
        plans += [Path(folder, n) for n in names if n.endswith(".plan.yaml")]
    return takes, plans


def _in_order(found: list[tuple[float, str]]) -> list[Take]:
    return [Take(Path(p)) for _, p in sorted(found, key=lambda f: (f[0], os.path.basename(f[1])))]


RETAKE, STRUCK = "retake.plan.yaml", "struck.plan.yaml"
"""Plans, beside a take's own, for what of it is taken again"""


def plan_beside(take: Path) -> Path:
    """The plan file of a take's folder: its only one, or the one that is no retake."""
    found = sorted(p for p in take.parent.glob("*.plan.yaml") if p.name not in (STRUCK, RETAKE))
    return found[0] if found else take.parent / "comparison.plan.yaml"


def next_take_folder(parent: Path) -> Path:
    """Where the next take of a plan goes."""
    numbers = [int(p.name[5:]) for p in parent.glob("take-*") if p.name[5:].isdigit()]
    return parent / f"take-{max(numbers, default=0) + 1:03d}"


def claim_take_folder(parent: Path) -> Path:
    """Make the next take's folder, so that no other run can have the same. Raises BadInput where none can be made."""
    for _ in range(1000):
        folder = next_take_folder(parent)
        try:
            folder.mkdir(parents=True)
            return folder
        except FileExistsError:
            continue  # another run was quicker
        except OSError as problem:
            raise BadInput(f"{folder}: it can't be made ({problem.strerror}): choose another place.") from None
    raise BadInput(f"{parent}: no take could be made there: choose another place.")


def begin_take(folder: Path, plan: str, rig: str) -> Take:
    """Make a take's folder with the plan and the rig as they stand (YAML). A take that exists is never written over."""
    if folder.exists() and any(p.name not in OF_THE_GUARDS for p in folder.iterdir()):
        raise BadInput(f"{folder}: it exists already: a take is never written over; choose another place.")
    folder.mkdir(parents=True, exist_ok=True)
    whole_write(folder / "plan.yaml", plan)
    whole_write(folder / "rig.yaml", rig)
    return Take(folder)
