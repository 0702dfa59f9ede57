"""What whoever mends the program needs to see of a lab: versions, rigs, plans, events and the ends of logs.

No raw data, no customers, no addresses, no words that open a door.
"""

from __future__ import annotations

import datetime
import json
import os
import platform
import re
import sys
import zipfile
from collections.abc import Iterator
from importlib.metadata import distributions
from pathlib import Path
from typing import Any

from .. import __version__
from ..contracts import registry
from ..core.errors import BadInput
from ..lab.place import Lab
from ..lab.takes import Take, list_takes
from ..lab.textfiles import dump_yaml, load_yaml

TAKES = 8
"""Newest takes of which it tells"""
LINES = 400
"""Last lines of each log"""
PRIVATE = ("customer", "customer_address", "address", "operator", "signatory", "may_sign", "mail", "after", "password",
           "token", "by", "job_title", "accreditation", "note", "remark")  # fmt: skip
"""Keys whose values are taken out, wherever they stand"""
OUT = "(taken out)"
_SECRET = re.compile(r"[A-Za-z0-9_-]{24,}|(?<=://)[^/@\s]+(?=@)")
"""What looks like a token, and who opens a database, wherever it stands in text"""


def without_secrets(text: str) -> str:
    """Text without what could open anything."""
    return _SECRET.sub(OUT, text)


def without_names(data: Any) -> Any:
    """Plain data without what says who somebody is."""
    if isinstance(data, dict):
        return {k: OUT if k in PRIVATE and v else without_names(v) for k, v in data.items()}
    if isinstance(data, list):
        return [without_names(v) for v in data]
    return without_secrets(data) if isinstance(data, str) else data


def versions() -> dict[str, Any]:
    """Of the program, what it stands on and the machine."""
    return {
        "lucid-anvil": __version__, "python": sys.version.split()[0], "system": platform.platform(),
        "processors": os.cpu_count(), "packages": {d.metadata["Name"]: d.version for d in distributions()},
        "domains": {d.name: list(d.methods) for d in registry.domains()}, "domains left out": registry.broken(),
    }  # fmt: skip


def _yaml(place: Path) -> str:
    try:
        return dump_yaml(without_names(load_yaml(place)))
    except BadInput as problem:
        return f"# it can't be read: {without_secrets(str(problem))}\n"


def _lines(place: Path) -> str:
    """The last lines of a log; lines of JSON without names."""
    made = []
    for line in place.read_text(encoding="utf-8", errors="replace").splitlines()[-LINES:]:
        try:
            made.append(json.dumps(without_names(json.loads(line)), ensure_ascii=False))
        except ValueError:
            made.append(without_secrets(line))
    return "\n".join(made) + "\n"


def newest(lab: Lab) -> list[Take]:
    """The last takes of all plans, newest first."""
    return sorted(list_takes(lab.jobs), key=lambda t: t.folder.stat().st_mtime, reverse=True)[:TAKES]


def parts_of(lab: Lab) -> Iterator[tuple[str, str]]:
    """Name and text of every file of the bundle."""
    yield "versions.json", json.dumps(versions(), indent=1, ensure_ascii=False)
    yield "lab.yaml", _yaml(lab.folder / "lab.yaml")
    for place in sorted((lab.folder / "rigs").glob("*.yaml")):
        yield f"rigs/{place.name}", _yaml(place)
    for i, take in enumerate(newest(lab), start=1):
        where = f"takes/{i:02d}"
        size = sum(p.stat().st_size for p in take.folder.iterdir() if p.is_file())
        yield f"{where}/about.json", json.dumps({
            "status": take.status(), "reason": without_secrets(str(take.reason() or "")), "bytes": size,
            "files": sorted(p.name for p in take.folder.iterdir()),
        }, ensure_ascii=False)  # fmt: skip
        for name in ("plan.yaml", "rig.yaml"):
            if (take.folder / name).is_file():
                yield f"{where}/{name}", _yaml(take.folder / name)
        for name in ("events.jsonl", "guards.jsonl"):
            if (take.folder / name).is_file():
                yield f"{where}/{name}", _lines(take.folder / name)
    for place in sorted(lab.folder.glob("*.log")):
        yield f"logs/{place.name}", _lines(place)


def bundle_name(lab: Lab) -> Path:
    """A place for a bundle that is not taken yet."""
    day = datetime.date.today().isoformat()
    tries = (lab.folder / f"support-{day}{'' if k == 1 else f'-{k}'}.zip" for k in range(1, 1000))
    return next(p for p in tries if not p.exists())


def write_bundle(lab: Lab, place: Path) -> list[str]:
    """The bundle as a zip file; the names of what is in it. Raises BadInput where it can't be written."""
    if place.exists():
        raise BadInput(f"{place}: it exists already: choose another name.")
    part = place.with_name(f".{place.name}.part")
    names, facts = [], lab.facts
    # Whose lab it is stands in plans and certificates too.
    whose = [w for w in (facts.name, facts.customer, *facts.address, facts.customer_address) if len(w) > 3]
    try:
        with zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED) as held:
            for name, text in parts_of(lab):
                for said in whose:
                    text = text.replace(said, OUT)
                held.writestr(name, text)
                names.append(name)
        os.replace(part, place)
    except OSError as problem:
        part.unlink(missing_ok=True)
        raise BadInput(f"{place}: it can't be written ({problem.strerror}).") from None
    return names
