"""Work that takes longer than the window may stand still: done in a thread, delivered in the window's own."""

from __future__ import annotations

import contextlib
import gc
import threading
from collections.abc import Callable
from typing import Any

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from ...core.errors import BadInput


class Tidy(QObject):
    """Looks for garbage in the window's thread only.

    Python looks for it in whichever thread happens to allocate; a widget destroyed by another thread than its own
    takes Qt down. The generations and thresholds are Python's own.
    """

    def __init__(self, parent: QObject | None = None, every: int = 500) -> None:
        """`every`: milliseconds between two looks."""
        super().__init__(parent)
        gc.disable()
        self.timer = QTimer(self)
        self.timer.timeout.connect(self.look)
        self.timer.start(every)

    def look(self) -> int | None:
        """Collect the oldest generation that is due; which one that was."""
        due = [
            g for g, (count, limit) in enumerate(zip(gc.get_count(), gc.get_threshold(), strict=True)) if count > limit
        ]
        if not due:
            return None
        gc.collect(due[-1])
        return due[-1]


class Background(QObject):
    """Runs work aside. `failed` tells what a person should read."""

    failed = pyqtSignal(str)
    _came = pyqtSignal(object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._came.connect(self._deliver)
        self.newest: dict[str, int] = {}
        self.waiting: dict[tuple[str, int], Callable[[Any], None]] = {}

    @property
    def open(self) -> int:
        """How many pieces of work are under way."""
        return len(self.waiting)

    def run(self, kind: str, work: Callable[[], Any], then: Callable[[Any], None]) -> None:
        """Do `work` aside, then `then(result)` here. Of one `kind` only the newest is delivered."""
        number = self.newest[kind] = self.newest.get(kind, 0) + 1
        # Kept here and not by the thread, which must never hold a widget's last reference.
        self.waiting[kind, number] = then

        def job() -> None:
            try:
                held: tuple[Any, ...] = (kind, number, work(), None)
            except BadInput as problem:
                held = (kind, number, None, str(problem))
            except Exception as problem:  # a thread's fault must be told, not lost
                held = (kind, number, None, f"Lucid Anvil failed: {type(problem).__name__}: {problem}")
            with contextlib.suppress(RuntimeError):  # whoever asked is gone: nobody waits for it
                self._came.emit(held)

        threading.Thread(target=job, daemon=True).start()

    def _deliver(self, held: tuple[str, int, Any, str | None]) -> None:
        kind, number, result, problem = held
        then = self.waiting.pop((kind, number))
        if problem is not None:
            self.failed.emit(problem)
        elif number == self.newest[kind]:
            then(result)
