"""What a kill or a full disk left undone is done later: files closed, findings read, the ledger told."""

from __future__ import annotations

import json
import os
import time
from dataclasses import asdict
from pathlib import Path
from typing import Any

from ..core.errors import BadInput
from ..formats.hdf5file import close_properly, lengthen
from ..lab.hashes import digest
from ..lab.takes import Take, list_takes, open_take
from ..protocol.messages import Trip
from ..rig.aftermath import kept
from .launch import alive
from .taking import read_take, tell_ledger


def running(take: Take) -> bool:
    """Whether a run still writes this take."""
    begin = next((e for e in take.events() if e["kind"] == "begin"), None)
    if begin is None or any(e["kind"] == "end" for e in take.events()):
        return False
    pid = int(begin.get("pids", {}).get("conductor", 0))
    return pid > 0 and pid != os.getpid() and alive(pid)


def takes_in(place: Path) -> list[Take]:
    """A take, or all below a lab's folder. Raises BadInput."""
    if (place / "plan.yaml").exists():
        return [open_take(place)]
    if not place.is_dir():
        raise BadInput(f"{place}: give a take's or a lab's folder.")
    return list_takes(place)


def close_take(take: Take) -> bool:
    """Close the record of a run that was killed, and say so in its events. False where nothing had to be done, or it
    still runs. Raises BadInput where it can't be done."""
    raw = take.folder / "raw.h5"
    if running(take) or not raw.exists() or any(e["kind"] == "end" for e in take.events()):
        return False
    close_properly(raw)
    length, rate = _extent(take)
    more = _what_came_after(take, raw, length, rate)
    t = _extent(take)[0] / rate
    text = (take.folder / "events.jsonl").read_text(encoding="utf-8")
    line = {
        "kind": "end", "t": t, "sha256": digest(raw), "status": "interrupted", "settled": time.time(),
        "reason": take.reason() or "the run was killed",
    }  # fmt: skip
    # A last line that was cut short by the kill stays what it is: the new one begins on its own.
    begin = "" if not text or text.endswith("\n") else "\n"
    with (take.folder / "events.jsonl").open("a", encoding="utf-8") as file:
        file.write(begin + "".join(json.dumps(made) + "\n" for made in [*more, line]))
    os.chmod(raw, 0o444)
    return True


def _extent(take: Take) -> tuple[int, float]:
    """Samples of its run, and rate [Hz], as far as its raw record goes."""
    record = take.recording()
    try:
        if "end" in record.meta:
            return int(record.meta["end"]), record.channels[0].rate
        return max((c.length for c in record.channels), default=0), record.channels[0].rate
    finally:
        if (file := record.meta.get("file")) is not None:
            file.close()


def _what_came_after(take: Take, raw: Path, length: int, rate: float) -> list[dict[str, Any]]:
    """Put what was still put out at the end of the record; events that say where it was brought down."""
    after = kept(take.folder)
    if after is None:
        return []
    down = any(e["kind"] == "trip" and e.get("action") in ("cut", "ease") for e in take.events())
    reason = take.reason() or "the run was killed"
    rows = after.since(length)
    if rows is None:
        return [{"kind": "note", "t": length / rate, "text": "how the drive came down after this is not recorded"}]
    lengthen(raw, rows * after.factors[:, None], length)
    if down:  # it was being brought down already when the run was killed
        return []
    trip = Trip("conductor", reason, "cut", None, after.altered * after.block / rate, 0, 0.0, 0.0, "")
    return [{"kind": "trip", **asdict(trip), "sentence": reason}]


def settle(take: Take) -> list[str]:
    """Do what is left to do; what was done, a sentence each. Raises BadInput where it can't be done."""
    if running(take):
        return [f"{take.folder}: its run still goes on: nothing was done."]
    done = []
    if close_take(take):
        done.append(f"{take.folder}: closed what was recorded.")
    if not take.finding_files():
        made = read_take(take)
        if made is not None:
            done.append(f"{take.folder}: read, {made[1].verdict}.")
    if tell_ledger(take):
        done.append(f"{take.folder}: the ledger knows of it.")
    return done
