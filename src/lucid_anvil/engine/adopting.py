"""A record from elsewhere read by a method and kept as a take: its file whole, its channels under their roles."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import time
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from ..contracts import registry
from ..contracts.recording import Channel, Recording
from ..contracts.settings import check
from ..core.errors import BadInput
from ..formats import read
from ..formats.hdf5file import write_raw
from ..lab.patterns import free_folder, slug
from ..lab.place import Lab
from ..lab.takes import Take, begin_take
from ..lab.textfiles import dump_yaml
from .evaluating import with_optional

SOURCE = "source"
"""Folder in a take that holds the file as it came"""


@dataclass(frozen=True)
class Adoption:
    """What a person chose for a record from elsewhere."""

    file: Path
    method: str
    article: str
    roles: Mapping[str, str] = field(default_factory=dict)
    """Channels by role, as labels or numbers"""
    settings: Mapping[str, Any] = field(default_factory=dict)
    title: str = ""
    by: str = ""


def adopt(lab: Lab, wanted: Adoption) -> Take:
    """Read the record, and keep it with its finding among the lab's takes. Raises BadInput; then nothing is written."""
    if not wanted.article.strip():
        raise BadInput("Article: say what was recorded.")
    method = registry.get(wanted.method)
    settings = check(method.Settings, method.beside(dict(wanted.settings), wanted.file.parent), "the settings")
    record = read(wanted.file, logs=method.logs)
    more = [r for r in wanted.roles if method.more or r in method.optional_roles]
    channels = record.roles(dict(wanted.roles), tuple(dict.fromkeys((*method.needs(settings), *more))))
    if len({id(c) for c in channels.values()}) < len(channels):
        raise BadInput("Two roles take the same channel: give each its own.")
    channels = with_optional(method, channels, record)
    found = method.judged(channels, settings, record.marks)
    facts = lab.facts
    title = wanted.title.strip() or f"{method.title}, {wanted.article.strip()}"
    plan = {
        "lucid-anvil-plan": 1, "title": title, "job": facts.job, "article": wanted.article.strip(),
        "customer": facts.customer, "customer_address": facts.customer_address,
        "operator": wanted.by or facts.operator,
        "steps": [{"method": wanted.method, "settings": dict(wanted.settings)}],
    }  # fmt: skip
    folder = free_folder(lab.jobs / (facts.job or "bench") / slug(wanted.article), slug(title))
    part = folder.with_name(f".{folder.name}.part")
    shutil.rmtree(part, ignore_errors=True)
    try:
        rig = {"name": f"Recorded elsewhere: {wanted.file.name}"}
        take = begin_take(part / "take-001", dump_yaml(plan), dump_yaml(rig))
        _write(take, wanted.file, channels, record)
        take.keep(replace(found, notes=(*record.notes, *found.notes)))
        os.rename(part, folder)
    except OSError as problem:
        raise BadInput(f"{folder}: it can't be written ({problem.strerror or problem}).") from None
    finally:
        shutil.rmtree(part, ignore_errors=True)
    return Take(folder / "take-001")


def _write(take: Take, file: Path, channels: Mapping[str, Channel], record: Recording) -> None:
    """Channels by role, the file as it came, and when."""
    # What a sound file's full scale means is said by a setting, each time that it is read.
    held = tuple(
        replace(c, label=role, meta={**c.meta, **({"full_scale": 1} if c.meta.get("full_scale") else {})})
        for role, c in channels.items()
    )
    raw = take.folder / "raw.h5"
    write_raw(raw, Recording(str(file), held, {"notes": record.notes}))
    (take.folder / SOURCE).mkdir()
    shutil.copyfile(file, take.folder / SOURCE / file.name)
    for place in (raw, take.folder / SOURCE / file.name):
        os.chmod(place, 0o444)
    begun = {"kind": "begin", "t": 0.0, "wall": file.stat().st_mtime, "from": file.name,
             "source_sha256": _digest(file), "adopted": time.time()}  # fmt: skip
    end = {"kind": "end", "t": max(c.duration for c in held), "status": "done", "sha256": _digest(raw)}
    marks = [m for m in record.marks if m.get("kind") not in ("begin", "end")]
    lines = [json.dumps(e, ensure_ascii=False) for e in (begun, *marks, end)]
    (take.folder / "events.jsonl").write_text("\n".join(lines) + "\n", encoding="utf-8")


def _digest(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()
