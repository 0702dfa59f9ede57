"""Raw records held against the hashes that were noted when they were made."""

from __future__ import annotations

import contextlib
import hashlib
import json
from pathlib import Path

from .takes import Take
from .textfiles import whole_write


def digest(path: Path) -> str:
    """SHA-256 of a file, as text."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def wrong(take: Take, anew: bool = False) -> str | None:
    """What is wrong with a take's raw record, against the hash that was noted when it was made; None where nothing
    is, or no hash was noted yet. What was looked at once is known by size and time, unless `anew`."""
    end = next((e for e in reversed(take.events()) if e["kind"] == "end" and "sha256" in e), None)
    raw = take.folder / "raw.h5"
    if end is None:
        return None
    if not raw.exists():
        return "the raw record is gone"
    held = raw.stat()
    key = [held.st_size, held.st_mtime_ns, end["sha256"]]
    cache = take.folder / "cache" / "verified.json"
    if not anew:
        with contextlib.suppress(OSError, ValueError, KeyError, TypeError):
            known = json.loads(cache.read_text(encoding="utf-8"))
            if known["key"] == key:
                return str(known["wrong"]) if known["wrong"] else None
    said = None if digest(raw) == end["sha256"] else "the raw record is not the one that was recorded: its hash differs"
    with contextlib.suppress(OSError):  # else it is looked at anew next time
        cache.parent.mkdir(exist_ok=True)
        whole_write(cache, json.dumps({"key": key, "wrong": said}))
    return said
