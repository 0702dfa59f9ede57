"""What can be ordered of a run while it goes on, beside Stop: hold it, turn it down and up, leave a stretch."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from PyQt6.QtWidgets import QPushButton

from ...contracts.method import Method
from ..parts.widgets import button

if TYPE_CHECKING:
    from .place import BenchPlace

STEP = 3.0
"""dB"""


class RunOrders:
    """The buttons, and what they do; which of them are there is the method's to say."""

    def __init__(self, bench: BenchPlace) -> None:
        self.bench = bench
        self.word = "Hold"
        self.hold = button("Hold  H", tip="Hold the frequency or the time where it is; once more goes on")
        self.hold.clicked.connect(self.toggle)
        self.down = button("−3 dB  [", tip="Lower the level by 3 dB")
        self.down.clicked.connect(lambda: self.step(-STEP))
        self.up = button("+3 dB  ]", tip="Raise the level by 3 dB, never above the planned one")
        self.up.clicked.connect(lambda: self.step(STEP))
        self.taken: tuple[str, ...] = ()

    @property
    def buttons(self) -> tuple[QPushButton, ...]:
        return (self.hold, self.down, self.up)

    def offer(self, method: Method) -> None:
        """What the run of this method can be told."""
        self.taken, self.word = method.orders, method.hold_word
        self.hold.setText(f"{self.word}  H")

    def show_offered(self, live: Mapping[str, Any]) -> None:
        """After the Bench has shown all that a run may have; `held` of its live figures says how it stands."""
        if "held" in live:
            self.hold.setText("Go on  H" if live["held"] else f"{self.word}  H")
        self.hold.setVisible("hold" in self.taken)
        for one in (self.down, self.up):
            one.setVisible("level" in self.taken)

    def toggle(self) -> None:
        if self.bench.state == "running" and "hold" in self.taken:
            held = self.hold.text().startswith("Go")
            self.bench.link.order("go" if held else "hold")
            self.hold.setText(f"{self.word}  H" if held else "Go on  H")

    def step(self, by: float) -> None:
        """The level, by dB."""
        if self.bench.state == "running" and "level" in self.taken:
            self.bench.link.order("level", by=by)
