"""The end of a run: its record closed, read and told to the ledger, whatever goes wrong with any of them."""

from __future__ import annotations

import contextlib
import re
import time
import traceback
from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path

from ..contracts.finding import Finding
from ..core.errors import BadInput
from ..lab.takes import Take
from ..protocol.messages import Trip
from ..rig.aftermath import kept
from .launch import alive, set_off_after
from .recorder import Recorder
from .taking import read_take, tell_ledger

BY_ITSELF = 3.0
"""s that a device may take to bring its output down without the guards"""


def close_record(recorder: Recorder, status: str, why: str | None) -> list[str]:
    """What could not be done of closing the record."""
    try:
        recorder.close(status=status, reason=why)
    except (OSError, RuntimeError) as problem:
        return [f"the record could not be closed ({reason(problem)})"]
    return []


def put_at_the_end(recorder: Recorder, folder: Path, device: int, why: str | None) -> None:
    """What a device put out by itself once the guards were gone, at the end of the record. `device`: its process."""
    until = time.monotonic() + BY_ITSELF
    while alive(device) and time.monotonic() < until:
        time.sleep(0.02)
    after = kept(folder)
    rows = after.since(round(recorder.seconds * recorder.rate)) if after is not None else None
    if after is None or rows is None:
        return
    label = why or "the guards are gone"
    recorder.event("trip", **asdict(Trip("watchdog", label, "cut", None, after.altered * after.block / recorder.rate,
                                         after.altered, 0.0, 0.0, "")), sentence=label)  # fmt: skip
    with contextlib.suppress(OSError, RuntimeError):
        recorder.write(rows)


def read_and_tell(take: Take) -> tuple[tuple[Path, Finding] | None, str, list[str]]:
    """The finding and where it is kept; why the method refused, if it did; and what could not be done. The run is over
    and its record is there: whatever goes wrong from here is told, and can be done later."""
    made, said, undone = None, "", []
    try:
        made = read_take(take)
    except BadInput as problem:
        said = str(problem)
    except Exception as problem:
        traceback.print_exc()
        undone.append(f"it could not be read ({reason(problem)})")
    try:
        tell_ledger(take)
    except Exception as problem:
        traceback.print_exc()
        undone.append(f"the ledger was not told ({reason(problem)})")
    return made, said, undone


def set_off(folder: Path) -> list[str]:
    """Have a take's papers and mail made, where the lab wants them; what is to be said where that can't be begun."""
    try:
        set_off_after(folder)
    except (BadInput, OSError) as problem:
        return [f"Papers and mail were not begun ({reason(problem)}): 'lucid-anvil after {folder}' makes them."]
    return []


def left_for_later(undone: Sequence[str], folder: Path) -> str:
    """One sentence with what to do."""
    said = f"{'; '.join(undone)}: 'lucid-anvil settle {folder}' does it later."
    return said[0].upper() + said[1:]


def reason(problem: BaseException) -> str:
    """What went wrong, in a line; of a library's report what the system said."""
    text = getattr(problem, "strerror", None) or str(problem) or type(problem).__name__
    found = re.search(r"error message = '([^']+)'", text)
    return " ".join((found[1] if found else text).split())[:160]
