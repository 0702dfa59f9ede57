"""Places in painted widgets that can be pressed, for those who use no mouse."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple, Protocol, runtime_checkable

from PyQt6.QtCore import QPoint, QRectF


class Spot(NamedTuple):
    """One place: where in its widget, what a click does there, and what a right click does, at a point of the screen;
    None where it does nothing."""

    box: QRectF
    press: Callable[[], object] | None
    ask: Callable[[QPoint], object] | None = None


@runtime_checkable
class Spotted(Protocol):
    """A widget that has such places."""

    def spots(self) -> Sequence[Spot]:
        """Those that can be pressed now."""
        ...
