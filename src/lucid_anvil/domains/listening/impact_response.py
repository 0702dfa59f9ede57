"""Impact response: a force hammer's hits and the acceleration that follows give an accelerance and its modes
(ISO 7626-5)."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Annotated, Any

from pydantic import Field, field_validator, model_validator

from ...contracts.finding import Finding
from ...contracts.method import Axis, BenchFacts, CourseItem, Facts, Method, MethodSettings, Performance
from ...contracts.recording import Channel
from ...contracts.settings import Flag, quantity
from ...contracts.sketch import level, line
from ...core.errors import BadInput
from ...core.quantities import parse
from ...lab.plans import SENSED_WALK_ROUND


def linked(rate: float, seconds: float | None = None, lines: int | None = None, bandwidth: float | None = None
           ) -> tuple[float, int, float]:  # fmt: skip
    """Block length [s], lines and bandwidth [Hz] of which any two are given: lines = bandwidth · seconds. The bandwidth
    goes to `rate`/2.56 at most, which an input's filter lets through. Raises BadInput for more, or for not two."""
    given = [v is not None for v in (seconds, lines, bandwidth)]
    if sum(given) != 2:
        raise BadInput("block: give two of block length, lines and bandwidth; they fix the third.")
    if seconds is None:
        assert lines is not None and bandwidth is not None
        seconds = lines / bandwidth
    elif bandwidth is None:
        assert lines is not None
        bandwidth = lines / seconds
    made = max(int(round(bandwidth * seconds)), 1)
    if bandwidth > rate / 2.56 * (1 + 1e-9):
        raise BadInput(f"bandwidth: {bandwidth:g} Hz is more than {rate:g} Hz of sampling give ({rate / 2.56:g} Hz).")
    if seconds <= 0 or round(seconds * rate) < 64:
        raise BadInput("block: it must be longer than 64 samples.")
    return seconds, made, bandwidth


class ImpactSettings(MethodSettings):
    """Sensitivities, how hits are cut out, and how they are averaged."""

    force_sensitivity: Any = None
    """mV/N; without one the force is taken in the unit that its record states"""
    response_sensitivity: Any = None
    """mV/(m/s²), likewise"""
    block: int = Field(default=16384, ge=64)
    """samples of a hit's block"""
    bandwidth: Annotated[float, quantity("Hz")] | None = None
    """Hz up to which the response function is shown and its lines are counted; rate/2.56 when not given"""
    hysteresis: Annotated[float, quantity("%")] = 50.0
    """% of the trigger below which the force must fall before it may trigger again"""
    pretrigger: Annotated[float, quantity("%")] = 5.0
    """% of the block that stands before the trigger"""
    trigger: Annotated[float, quantity("N")] | None = None
    """N; a tenth of the strongest force when not given"""
    hits: int | None = Field(default=None, ge=1)
    """good hits to average; all there are when not given"""
    estimator: str = "H1"
    response_decay: Annotated[float, quantity("s")] | None = None
    """s, time constant of an exponential window on both channels from the trigger"""
    force_window: Annotated[float, quantity("s")] | None = None
    """s after the trigger at which the force is faded out; not done when not given"""
    trial_hits: int = Field(default=0, ge=0, le=20)
    """hits from which the input ranges are chosen before any is counted; none: the ranges stay as they are"""
    points: list[str] = Field(default_factory=list, max_length=400)
    """names of points between which the hammer or the sensor moves, each with its own hits; the first is fitted"""
    driving_point: Flag = False
    """hammer and sensor are at one place: a mode that moves against it makes the response doubtful"""
    overrule: list[int] = Field(default_factory=list)
    """numbers of hits, from 1, that a person takes for good in spite of what was found"""

    @field_validator("estimator")
    @classmethod
    def _known(cls, value: str) -> str:
        if value.upper() not in ("H1", "H2"):
            raise ValueError(f"'{value}' is not known; use H1 or H2.")
        return value.upper()

    @model_validator(mode="after")
    def _sensible(self) -> ImpactSettings:
        if not 0 <= self.pretrigger < 90:
            raise ValueError("pretrigger must be from 0 to below 90 %.")
        if len(set(self.points)) < len(self.points):
            raise ValueError("points: each must stand once.")
        if not 0 <= self.hysteresis <= 100:
            raise ValueError("hysteresis must be from 0 to 100 %.")
        for name in ("trigger", "response_decay", "force_window", "bandwidth"):
            value = getattr(self, name)
            if value is not None and value <= 0:
                raise ValueError(f"{name} must be above zero.")
        for name, unit in (("force_sensitivity", "mV/N"), ("response_sensitivity", "mV/(m/s^2)")):
            value = getattr(self, name)
            if value is not None and parse(value, unit, name) == 0:
                raise ValueError(f"{name} can't be zero.")
        return self


class ImpactResponse(Method):
    """The method as the registry knows it."""

    name = "impact-response"
    title = "Impact response"
    roles = ("force", "response")
    about = "How a structure answers a force, its modes and their damping, by a force hammer"
    sketch = (line(lambda x: 0.5 + 0.45 * math.exp(-4 * x) * math.sin(40 * x), points=120), level(0.5))
    usual = {"hits": 5, "trial_hits": 3}
    walk_round = (
        {"key": "tip", "text": "Tip of the hammer as planned"},
        {"key": "mounted", "text": "Sensor screwed on, cable tied down"},
        {"key": "free", "text": "Plate hangs free"},
        *SENSED_WALK_ROUND,
    )
    told = ("hits",)
    Settings = ImpactSettings
    headline = ("hits_accepted", "{:.0f} good hits")
    readings = {
        "hits_accepted": "Good hits that were averaged",
        "hits_rejected": "Hits put aside, each with a note",
        "modeN_frequency": "Undamped natural frequency of mode N, from 1 rising [Hz]",
        "modeN_damping": "Damping of mode N [% of critical]",
        "against": "Modes that move against the hammer, with driving_point; none at a true one",
        "usable_to": "Frequency up to which the hammer's tip excites [Hz]",
    }
    curves = {
        "frf_magnitude": "Accelerance [(m/s²)/N] over Hz",
        "frf_phase": "Its phase [°] over Hz",
        "coherence": "Coherence over Hz, with two hits or more",
        "force_spectrum": "Force spectrum [N·s] over Hz",
        "frf_magnitude@P": "The same at a further point P, and frf_phase@P",
        "shape_modeN": "Shape of mode N over the points",
    }
    views = (
        Axis("magnitude", "Accelerance", ("frf_magnitude",), "Hz", "(m/s²)/N", y_log=True, upto="usable_to"),
        Axis("phase", "Phase", ("frf_phase",), "Hz", "°", upto="usable_to"),
        Axis("shapes", "Shapes of the modes", ("shape_mode*",), "point", ""),
        Axis("coherence", "Coherence", ("coherence",), "Hz", "", upto="usable_to"),
    )

    def evaluate(
        self, record: Mapping[str, Channel], settings: ImpactSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        from .impact_reading import evaluate

        return evaluate(record, settings, marks)

    def course(self, settings: ImpactSettings) -> list[CourseItem]:
        """Nothing is driven: a person hits."""
        wanted = settings.hits or 5
        items = [
            CourseItem(f"{wanted} good hits" + (f" at {p}" if p else ""), 6.0 * wanted) for p in settings.points or [""]
        ]
        if settings.trial_hits:
            items.insert(0, CourseItem(f"{settings.trial_hits} trial hits", 5.0 * settings.trial_hits))
        return items

    def perform(self, settings: ImpactSettings, facts: Facts, start: Mapping[str, Any] | None = None) -> Performance:
        from .impact_run import perform

        return perform(settings, facts)

    def fill(self, given: dict[str, Any], bench: BenchFacts) -> dict[str, Any]:
        """Settings that the bench knows: sensitivities [V per unit] and ranges [V] by role."""
        made = dict(given)
        made.setdefault("force_sensitivity", f"{1e3 * bench.sensitivity['force']!r} mV/N")
        made.setdefault("response_sensitivity", f"{1e3 * bench.sensitivity['response']!r} mV/(m/s^2)")
        made.setdefault("input_range", {r: bench.ranges[r] for r in self.roles})
        return made


METHOD = ImpactResponse()
