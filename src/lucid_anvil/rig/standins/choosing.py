"""Which stand-in bench a rig file describes."""

from __future__ import annotations

from ..amplifier_scene import AmplifierScene
from ..model import Rig
from ..scenes import ActuatorScene, DriverScene, FrameScene, PressScene
from .actuator import ActuatorBench
from .amplifier import AmplifierBench
from .bench import StandInBench
from .driver import DriverBench
from .frame import FrameBench
from .listening import ListeningBench
from .press import PressBench


def bench_of(rig: Rig) -> StandInBench | ListeningBench | AmplifierBench:
    """An amplifier's or one that only listens where the rig has a scene, else the shaker's. A scene that a domain
    brought along makes its own."""
    brought = getattr(rig.standin.scene, "bench", None)
    if brought is not None:
        made: ListeningBench = brought(rig)
        return made
    if isinstance(rig.standin.scene, AmplifierScene):
        return AmplifierBench(rig)
    if isinstance(rig.standin.scene, ActuatorScene):
        return ActuatorBench(rig)
    if isinstance(rig.standin.scene, DriverScene):
        return DriverBench(rig)
    if isinstance(rig.standin.scene, PressScene):
        return PressBench(rig)
    if isinstance(rig.standin.scene, FrameScene):
        return FrameBench(rig)
    return ListeningBench(rig) if rig.standin.scene is not None else StandInBench(rig)
