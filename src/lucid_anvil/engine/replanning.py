"""A plan file that was changed before its run began: read again beside the loop, the newest state last.

Reading takes longer than a block, so it has a thread; one reading follows the other, and what is taken up is what the
file held when it was last asked for. Until then nothing may begin: what a person sees is the new plan.
"""

from __future__ import annotations

import threading
from pathlib import Path

from ..core.errors import BadInput
from ..lab.textfiles import dump_yaml
from .preparing import Prepared, plan_as_kept, prepare, rig_as_kept
from .walkround import WalkRound

READING = "The plan is being read again."

Kept = tuple[str, str]
"""Plan and rig as a take keeps them"""


def kept_of(prepared: Prepared) -> Kept:
    """What a take of this plan keeps of it."""
    return dump_yaml(plan_as_kept(prepared)), dump_yaml(rig_as_kept(prepared))


class Replanning:
    """The plan in hand and what its file became since."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._asked = self._read = 0
        self._made: tuple[Prepared, WalkRound, Kept] | None = None
        self._trouble = ""
        self._thread: threading.Thread | None = None

    @property
    def unread(self) -> str:
        """Why a run would not go by the plan as its file now stands; empty when it would."""
        with self._lock:
            if self._read < self._asked or self._made is not None:
                return READING
            return self._trouble

    def ask(self, plan: Path, rig: Path) -> None:
        """Read the file again."""
        with self._lock:
            self._asked += 1
            if self._thread is not None:
                return
            self._thread = threading.Thread(target=self._work, args=(plan, rig), daemon=True)
            self._thread.start()

    def taken(self) -> tuple[Prepared, WalkRound, Kept] | None:
        """What was read since, once."""
        with self._lock:
            made, self._made = self._made, None
            return made

    def _work(self, plan: Path, rig: Path) -> None:
        while True:
            with self._lock:
                number = self._asked
            made, trouble = None, ""
            try:
                prepared = prepare(plan, rig)
                made = prepared, WalkRound(prepared), kept_of(prepared)
            except BadInput as problem:
                trouble = str(problem)
            except Exception as problem:  # a plan that nobody foresaw: said, and nothing begins
                trouble = f"The plan can't be read again: {type(problem).__name__}: {problem}"
            with self._lock:
                # What was read before a plan that can't be read is not what the file holds: it is not taken up.
                self._made, self._trouble, self._read = made, trouble, number
                if number == self._asked:
                    self._thread = None
                    return
