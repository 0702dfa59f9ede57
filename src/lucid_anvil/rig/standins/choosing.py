"""Which stand-in bench a rig file describes."""

from __future__ import annotations

from ..model import Rig
from .bench import StandInBench
from .listening import ListeningBench


def bench_of(rig: Rig) -> StandInBench | ListeningBench:
    """One that only listens where the rig has a scene, else the shaker's."""
    return ListeningBench(rig) if rig.standin.scene is not None else StandInBench(rig)
