"""What the Bench needs of each kind of test: a Stage, a course, a result, and what to do at each turn of a run."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import QObject
from PyQt6.QtWidgets import QWidget

from ...engine.preparing import Prepared
from ...lab.takes import RETAKE, Take, plan_beside
from ...protocol.messages import Board

if TYPE_CHECKING:
    from .place import BenchPlace
    from .run_orders import RunOrders


class Side(QObject):
    """One kind of test on the Bench, which keeps plan, take and state itself."""

    name: str = ""
    """The domain's; stands once"""
    wakes: bool = False
    """Whether it wakes a rig without any test"""
    calibrates: bool = False
    """Whether it plans the calibration of a sensor that no sheet asks for"""
    limited: bool = True
    """Whether what it gives can be held to limits"""
    stage: Any
    """The thing itself, large"""
    stretches: QWidget
    """The course"""
    result: Any
    """What is told after the run"""
    settings: tuple[QWidget, ...] = ()
    """Set beside the course while the run is planned"""
    zone: str = "Course"
    """What stands over the course's place"""
    left: QWidget | None = None
    """What stands at the left in place of the docket"""
    buttons: tuple[QWidget, ...] = ()
    """Beside the course while it runs"""
    orders: RunOrders | None = None
    """What the run can be told, where it can be held or turned down"""

    def __init__(self, bench: BenchPlace) -> None:
        super().__init__(bench)
        self.bench = bench

    @property
    def here(self) -> bool:
        """Whether the plan in hand is of this kind."""
        raise NotImplementedError

    def show_prepared(self, prepared: Prepared, editable: bool) -> None:
        """A plan that was opened or changed."""
        raise NotImplementedError

    def change(self, place: Path, changes: dict[str, Any]) -> None:
        """Settings changed by hand on the thing itself, into the plan's own files."""
        self.bench.editing.change_step(place, changes)

    def show_settings(self) -> None:
        """The settings that hold, on what they are set with; also after a change that could not be."""

    def edit_limits(self) -> None:
        """Limits of readings and curves."""
        self.bench.editing.edit_limits()

    def begin(self, prepared: Prepared) -> None:
        """The run has begun."""
        self.show_prepared(prepared, False)

    def show_running(self, board: Board) -> None:
        """One snapshot of the run."""
        raise NotImplementedError

    def show_done(self, take: Take, status: str, reason: str | None) -> None:
        """A take that is finished, and why if it was cut."""
        raise NotImplementedError

    def hold(self) -> None:
        """Hold the run where it is, or go on, where that can be done."""
        if self.orders is not None:
            self.orders.toggle()

    def turn(self, by: float) -> None:
        """The level by dB, where that can be done."""
        if self.orders is not None:
            self.orders.step(by)

    def skip(self) -> None:
        """Leave this stretch for the next, where that can be done."""

    def go(self) -> None:
        """What the window asked a person for is done."""

    def next_point(self) -> None:
        """Go on to the next place, where there are several."""

    def tile_menu(self, role: str) -> None:
        """A sensor's tile was clicked."""

    def choose(self) -> None:
        """Ask which rig is to be woken, where it wakes one."""

    def wake(self, rig: Path) -> bool:
        """A rig without any test, where it wakes one."""
        return False

    def calibrate(self, serial: str, as_state: str = "as found") -> None:
        """Plan the calibration of a sensor, where it does that."""

    def again(self) -> None:
        """Another take of the same plan; of the whole, not of the few readings once more, after a retake."""
        bench = self.bench
        place = bench.plan_file
        if place is not None and place.name == RETAKE and bench.take is not None:
            place = plan_beside(bench.take)
        if place is not None:
            bench.open_plan(place)

    def repaint_charts(self) -> None:
        """Take on the palette in force."""
        self.stage.repaint_charts()
