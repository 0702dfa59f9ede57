"""Work that takes longer than the window may stand still: done in a thread, delivered in the window's own."""

from __future__ import annotations

import gc
import threading
from collections.abc import Callable
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from ..core.errors import BadInput


class Background(QObject):
    """Runs work aside. `failed` tells what a person should read."""

    failed = pyqtSignal(str)
    _came = pyqtSignal(object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._came.connect(self._deliver)
        self.newest: dict[str, int] = {}
        self.open = 0

    def run(self, kind: str, work: Callable[[], Any], then: Callable[[Any], None]) -> None:
        """Do `work` aside, then `then(result)` here. Of one `kind` only the newest is delivered."""
        number = self.newest[kind] = self.newest.get(kind, 0) + 1
        self.open += 1
        # Garbage found by a thread would destroy widgets there, which Qt does not bear: none is looked for meanwhile.
        gc.disable()

        def job() -> None:
            try:
                held: tuple[Any, ...] = (kind, number, then, work(), None)
            except BadInput as problem:
                held = (kind, number, then, None, str(problem))
            except Exception as problem:  # a thread's fault must be told, not lost
                held = (kind, number, then, None, f"Lucid Anvil failed: {type(problem).__name__}: {problem}")
            self._came.emit(held)

        threading.Thread(target=job, daemon=True).start()

    def _deliver(self, held: tuple[str, int, Callable[[Any], None], Any, str | None]) -> None:
        kind, number, then, result, problem = held
        self.open -= 1
        if not self.open:
            gc.enable()
        if problem is not None:
            self.failed.emit(problem)
        elif number == self.newest[kind]:
            then(result)
