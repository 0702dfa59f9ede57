"""When a stand-in's faults act: one stated for 8 s comes 8 s after the take's begin, however long was walked round."""

from __future__ import annotations

from ..model import Fault, Rig


class Faults:
    """The faults of a rig on the clock of its bench.

    A fault at zero, or below, is there from the first block on, so that a walk-round finds it. Every other counts from
    the begin of the take once a bench was told to `wait` for it; a bench that plays alone counts from its first block.
    """

    def __init__(self, rig: Rig) -> None:
        self._parts = rig.standin.faults
        self.begun: float | None = 0.0
        """s of the bench's clock at which the take begins; None while that is waited for"""

    def command(self, name: str, value: object) -> bool:
        """Heed `wait`, `begin` (at s of the bench's clock) or `fault` (as in the rig file; at once when it has no
        later time). False: it is something else."""
        if name == "wait":
            self.begun = None
        elif name == "begin":
            self.begun = float(str(value))
        elif name == "fault":
            self._parts.append(Fault.model_validate(value))
        else:
            return False
        return True

    def between(self, first: float, last: float) -> list[Fault]:
        """Those that act at some time from `first` to `last` [s], with their times on the bench's clock."""
        shifted = [f for f in map(self._shifted, self._parts) if f is not None]
        return [f for f in shifted if f.at <= last and first <= f.at + f.lasts]

    def elapsed(self, now: float) -> float:
        """s since the take began; zero before."""
        return max(now - self.begun, 0.0) if self.begun is not None else 0.0

    def _shifted(self, fault: Fault) -> Fault | None:
        if fault.at <= 0 or self.begun == 0.0:
            return fault
        if self.begun is None:
            return None
        return fault.model_copy(update={"at": fault.at + self.begun})
