"""Which stand-in bench a rig file describes."""

from __future__ import annotations

from typing import Any, Protocol

from ...core.signal.sinefit import Floats
from ..device import InputBlock
from ..model import Rig
from .bench import StandInBench
from .faults import Faults
from .listening import ListeningBench


class Bench(Protocol):
    """What stands behind a stand-in front end."""

    rig: Rig
    faults: Faults

    def command(self, name: str, value: object) -> None:
        """Something set, asked for or begun; what it does not know it leaves."""

    def play(self, source: Floats) -> InputBlock:
        """One block out [V], and what the inputs show of it."""

    def direct(self) -> Any:
        """Its instruments, in this very process; None where it has none."""

    def served(self, port: int = 0) -> Any:
        """Its instruments, as servers; None where it has none."""


def bench_of(rig: Rig) -> Bench:
    """The one that the rig's scene makes, one that only listens to it, or the shaker's where there is no scene."""
    scene: Any = rig.standin.scene
    if scene is None:
        return StandInBench(rig)
    if hasattr(scene, "bench"):
        made: Bench = scene.bench(rig)
        return made
    return ListeningBench(rig)
