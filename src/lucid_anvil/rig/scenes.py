"""What happens before the sensors of a bench that only listens: a person hits a plate, a pump runs down, a calibrator
sounds. Parameters of the stand-ins, as the rig file gives them."""

from __future__ import annotations

from typing import Annotated, Any, Literal, get_args

from pydantic import Field, model_validator

from ..contracts.registry import scene_kind, scene_kinds
from ..contracts.settings import Flag, Model, Seconds, check, quantity
from .amplifier_scene import AmplifierScene

Hz = Annotated[float, quantity("Hz")]
Percent = Annotated[float, quantity("%")]


class PlateMode(Model):
    """One mode of the plate, between the point that is hit and the one that is listened at."""

    frequency: Hz
    damping: Percent = 0.8
    mass: Annotated[float, quantity("kg")] = 2.0
    """modal mass for these two points; negative where they move against one another"""


class PlateScene(Model):
    """A hanging plate, and a hand with a force hammer."""

    kind: Literal["plate"]
    modes: list[PlateMode] = Field(min_length=1, max_length=8)
    peak: Annotated[float, quantity("N")] = 60.0
    tip: Seconds = 3e-4
    """contact time"""
    every: Seconds = 4.0
    clumsy: Percent = 30.0
    """of the hits are double, weak, far too hard, or glance off"""


class OrderPart(Model):
    """One order of a rotating machine's sound."""

    order: Annotated[float, Field(gt=0)]
    pressure: Annotated[float, quantity("Pa")]
    """rms at the pump's high speed"""
    slope: float = 6.0
    """dB per doubling of the speed"""


class PumpScene(Model):
    """A bilge pump: idle at its high speed, run down, rest, run up; and again."""

    kind: Literal["pump"]
    high: Annotated[float, quantity("rpm")] = 3000.0
    low: Annotated[float, quantity("rpm")] = 600.0
    idle: Seconds = 4.0
    down: Seconds = 20.0
    rest: Seconds = 3.0
    up: Seconds = 3.0
    orders: list[OrderPart] = Field(default_factory=lambda: [OrderPart(order=1, pressure=0.2)])
    casing: Hz = 420.0
    casing_quality: float = Field(default=12.0, gt=0.5)
    hum: Annotated[float, quantity("Pa")] = 0.01
    noise: Annotated[float, quantity("Pa")] = 0.02
    pulses: int = Field(default=1, ge=1, le=360)
    jitter: Seconds = 2e-5
    lost: Percent = 1.0
    """of the tach's pulses are missing"""
    spurious: Percent = 1.0
    """and as many more are none"""
    pulse_height: Annotated[float, quantity("V")] = 4.0
    pulse_noise: Annotated[float, quantity("V")] = 0.15

    @model_validator(mode="after")
    def _falls(self) -> PumpScene:
        if not 0 < self.low < self.high:
            raise ValueError("the pump's low speed must lie above zero and below its high one.")
        return self


class CalibratorScene(Model):
    """A sound calibrator on the microphone."""

    kind: Literal["calibrator"]
    level: Annotated[float, quantity("dB")] = 94.0
    frequency: Hz = 1000.0
    distortion: Percent = 0.8
    settle: Seconds = 1.5
    seated: Flag = True
    reseat: Seconds | None = None
    """when a badly seated one is put right"""
    noise: Annotated[float, quantity("Pa")] = 0.01


class RubberPart(Model):
    """An elastomer in the frame instead: a spring that softens from cycle to cycle, a dashpot, a set that grows."""

    stiffness: Annotated[float, quantity("N/m")] = 4e5
    loss: float = Field(default=0.12, ge=0, le=2)
    """tan delta at 1 Hz"""
    softening: Percent = 4.0
    """of its stiffness, each time ten times as many cycles were made"""
    set: Percent = 2.0
    """of the swing that stays, each time ten times as many cycles were made"""


class ViscousPart(Model):
    """A bar that is viscoelastic, in a chamber: relaxation times spread about one that the temperature shifts
    (Williams, Landel, Ferry)."""

    glassy: Annotated[float, quantity("Pa")] = 2.4e9
    rubbery: Annotated[float, quantity("Pa")] = 4e6
    spread: float = Field(default=1.6, gt=0.2, le=6)
    """decades of time over which it relaxes, as one standard deviation"""
    reference: float = 62.0
    """°C at which the middle of its relaxation takes `time`"""
    time: Seconds = 0.1
    c1: float = Field(default=17.4, gt=0)
    c2: float = Field(default=51.6, gt=0)
    """K"""
    area: Annotated[float, quantity("m^2")] = 20e-6
    length: Annotated[float, quantity("m")] = 0.03
    air_lag: Seconds = 20.0
    """of the chamber's air behind its set point"""
    lag: Seconds = 10.0
    """of the bar behind the air"""


class FrameScene(Model):
    """A specimen in a load frame: elastic, flowing, hardening, softening, broken. Its extensometer sits on its own
    gauge length."""

    kind: Literal["frame"]
    modulus: Annotated[float, quantity("Pa")] = 206e9
    area: Annotated[float, quantity("m^2")] = 50e-6
    length: Annotated[float, quantity("m")] = 0.075
    """parallel"""
    gauge: Annotated[float, quantity("m")] = 0.05
    flow: Annotated[float, quantity("Pa")] = 352e6
    """stress at which it begins to flow"""
    strength: Annotated[float, quantity("Pa")] = 498e6
    uniform: Percent = 14.0
    """strain at its strength"""
    breaks: Percent = 20.0
    """strain at which it breaks"""
    stiffness: Annotated[float, quantity("N/m")] = 4e7
    """of frame, cell and grips in series"""
    slack: Annotated[float, quantity("m")] = 0.0002
    """travel before the grips bite"""
    viscous: ViscousPart | None = None
    rubber: RubberPart | None = None
    """An elastomer between plates instead, pressed where the crosshead goes below zero"""
    lag: Seconds = 0.02
    """time constant of the valve"""


class DriverScene(Model):
    """A loudspeaker driver in front of a microphone, with what may be wrong with it."""

    kind: Literal["driver"]
    sensitivity: Annotated[float, quantity("Pa/V")] = 0.5
    """at the microphone"""
    resonance: Hz = 95.0
    quality: float = Field(default=3.0, gt=0.3)
    resistance: Annotated[float, quantity("ohm")] = 6.2
    inductance: Annotated[float, quantity("V*s/A")] = 4e-4
    peak: Annotated[float, quantity("ohm")] = 30.0
    """above the resistance at the resonance"""
    square: float = 0.005
    """even distortion, per volt"""
    cube: float = 0.001
    """odd distortion, per volt squared"""
    delay: Seconds = 0.0029
    reversed: Flag = False
    """wires exchanged"""
    rub: float = 0.0
    """a coil that touches, as a share of the sound"""
    loose: int = 0
    """particles that strike in a second"""
    strike: Annotated[float, quantity("Pa")] = 0.06
    """of each, at the microphone"""
    leak: float = Field(default=0.0, ge=0, le=1)
    """of the air behind the cone that escapes: its resonance is damped, and the lowest tones go"""
    noise: Annotated[float, quantity("Pa")] = 0.0005


class ActuatorScene(Model):
    """An actuator that follows a voltage, late, with play, and not quite straight."""

    kind: Literal["actuator"]
    gain: Annotated[float, quantity("m/V")] = 1e-5
    play: Annotated[float, quantity("m")] = 1.5e-6
    """by which it lags behind where the drive turns"""
    bow: Percent = 1.0
    """of its travel over 10 V that it is off a straight line in the middle"""
    lag: Seconds = 0.15


class PressScene(Model):
    """A press or a pressure pump with a reference in it and a unit beside it, whose own faults the unit shows."""

    kind: Literal["press"]
    quantity: Literal["force", "pressure"] = "force"
    full: Any
    """At 10 V; or as far as a person turns it, where no source drives it"""
    lag: Seconds = 0.4
    hand: Flag = False
    """A person turns the spindle, towards what is asked for"""
    bow: Percent = 0.05
    """of full that the unit is off a straight line in the middle"""
    hysteresis: Percent = 0.08
    """of full between its branches in the middle"""
    turn: Percent = 0.03
    """of its reading that turning it in its mounting changes, either way"""
    scale: Percent = 0.0
    """that it shows too much"""
    offset: Percent = 0.2
    """of full that it shows at rest"""
    drift: Percent = 0.0
    """of full that its rest moves in an hour"""

    @property
    def top(self) -> float:
        """N or Pa"""
        from ..core.quantities import parse

        return parse(self.full, "N" if self.quantity == "force" else "Pa", "scene: full")

    @model_validator(mode="after")
    def _pushes(self) -> PressScene:
        if self.top <= 0:
            raise ValueError("full must be above zero.")
        return self


Scene = (
    PlateScene | PumpScene | CalibratorScene | FrameScene | DriverScene | ActuatorScene | PressScene | AmplifierScene
)
"""Those that any bench of stand-ins knows"""
KINDS: dict[str, type[Model]] = {one.model_fields["kind"].annotation.__args__[0]: one for one in get_args(Scene)}


def scene_from(held: Any) -> Model:
    """The scene that a rig file gives, ours or one that a domain brought along. Raises ValueError with the cure."""
    kind = held.get("kind") if isinstance(held, dict) else None
    known = [*KINDS, *scene_kinds()]
    if kind not in known:
        raise ValueError(f"there is no scene '{kind}'; its kind is one of {', '.join(known)}.")
    model: type[Model] = KINDS[kind] if kind in KINDS else scene_kind(kind)
    return check(model, held, "scene")
