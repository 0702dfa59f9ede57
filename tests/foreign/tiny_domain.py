"""A domain that this project knows nothing of: how much louder an input is while a tone is played than at rest."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Annotated, Any, Literal

import numpy as np

from lucid_anvil.contracts.check import Looked
from lucid_anvil.contracts.domain import Domain
from lucid_anvil.contracts.finding import Curve, Finding, Reading
from lucid_anvil.contracts.guard import Block, GuardKind, Sight, Watched
from lucid_anvil.contracts.limits import Limits
from lucid_anvil.contracts.method import Axis, CourseItem, Facts, Method, MethodSettings, Performance, Want
from lucid_anvil.contracts.paper import PaperKind
from lucid_anvil.contracts.recording import Channel
from lucid_anvil.contracts.settings import Model, quantity
from lucid_anvil.lab.place import Lab
from lucid_anvil.lab.planning import plan_of, put_in
from lucid_anvil.rig.device import InputBlock
from lucid_anvil.rig.model import Rig
from lucid_anvil.rig.standins.listening import ListeningBench

DOMAIN = Domain("tiny", "Tones", {"tone-rise": "tiny_domain"}, guards={"loud": "tiny_domain:LOUD"},
                scenes={"hum": "tiny_domain:HumScene"}, checks={"quiet": "tiny_domain:is_quiet"},
                channels={"torque": "N*m"}, papers={"tone-rise": "tiny_domain:PAPER"},
                sides=("tiny_window:ToneSide",), demo="tiny_domain:lay")  # fmt: skip


def lay(lab: Lab) -> None:
    """A plan of it in the demo job."""
    rig = lab.folder / "rigs" / "shaker.rig.yaml"
    put_in(lab.jobs / lab.facts.job / "tones", "rise", plan_of(lab, "Tones", "Tray", "tone-rise", {}, rig))


class RiseSettings(MethodSettings):
    frequency: Annotated[float, quantity("Hz")] = 100.0
    drive: Annotated[float, quantity("V")] = 0.05
    each: Annotated[float, quantity("s")] = 1.0


class ToneRise(Method):
    name, title, roles = "tone-rise", "Rise over rest", ("control",)
    Settings = RiseSettings
    readings: Mapping[str, str] = {"rise": "Level while driven over level at rest [dB]"}
    curves: Mapping[str, str] = {"level": "Level [V rms] over s"}
    views = (Axis("level", "Level", ("level",), "s", "V", y_log=True),)

    def course(self, settings: RiseSettings) -> list[CourseItem]:
        return [CourseItem("Rest", settings.each), CourseItem("Tone", settings.each, settings.frequency)]

    def perform(
        self, settings: RiseSettings, facts: Facts, start: Mapping[str, Any] | None = None
    ) -> Performance:  # fmt: skip
        span, count = facts.block / facts.rate, round(settings.each * facts.rate / facts.block)
        for k in range(2 * count + 3):
            t = (k * facts.block + np.arange(facts.block)) / facts.rate
            on = count <= k < 2 * count
            wave = settings.drive * np.sin(2 * math.pi * settings.frequency * t) if on else np.zeros(facts.block)
            marks = ({"kind": "tone", "t": k * span, "stop": 2 * count * span},) if k == count else ()
            yield Want(wave, marks=marks, live={"item": int(on), "at": (k % count) * span, "of": settings.each})

    def evaluate(
        self, record: Mapping[str, Channel], settings: RiseSettings, marks: Sequence[Mapping[str, Any]]
    ) -> Finding:
        limits = Limits(settings.limits, {"rise": "dB"}, settings.decision)
        tone = next((m for m in marks if m["kind"] == "tone"), None)
        if tone is None:
            nothing = Reading("rise", "Rise", None, "dB", valid=False, reason="no tone was played")
            return Finding(self.name, (limits.judge(nothing),))
        x = record["control"]
        n = round(0.1 * x.rate)
        whole = x.samples()
        level = np.std(whole[: whole.size // n * n].reshape(-1, n), axis=1)
        t = (np.arange(level.size) + 0.5) * n / x.rate
        quiet, loud = t < tone["t"], (t > tone["t"] + 0.2) & (t < tone["stop"])
        rise = 20 * float(np.log10(np.median(level[loud]) / np.median(level[quiet])))
        curve = Curve("level", "Level", tuple(t), tuple(map(float, level)), "s", "V")
        return Finding(self.name, (limits.judge(Reading("rise", "Rise", rise, "dB", 0.2, 2.0)),), (curve,))


METHOD = ToneRise()


class Loud:
    """A guard of its own: the first input's peak."""

    def __init__(self, bench: Watched, limit: float) -> None:
        self.role, self.limit = next(iter(bench.kinds)), limit

    def __call__(self, now: Block) -> Sight:
        top = float(np.abs(now.channels[self.role]).max())
        return Sight(top / self.limit, top, self.role, f"{self.role} is loud" if top >= self.limit else None)


LOUD = GuardKind("loud", "Loudness", "m/s²", Loud, usual=50.0)


def on_paper(take: Any, finding: Finding, lab: Any, accepted: Any) -> dict[str, Any]:
    return {"article": take.plan().article, "rise": f"{finding.reading('rise').value:.1f}", "verdict": finding.verdict}


PAPER = PaperKind(Path(__file__).parent / "tiny-paper.html", on_paper)


def is_quiet(now: Looked) -> tuple[bool, str]:
    """A check of its own: every input at rest."""
    loud = [role for role, volts in now.rms.items() if volts > 5.0]
    return not loud and bool(now.rms), f"{loud[0]} is not at rest" if loud else f"{len(now.rms)} inputs at rest"


class HumScene(Model):
    """A stand-in of its own: every input hums at 50 Hz, and hears the source."""

    kind: Literal["hum"]
    volts: Annotated[float, quantity("V")] = 0.01

    def bench(self, rig: Rig) -> ListeningBench:
        return HumBench(rig, self)


class HumBench(ListeningBench):
    def __init__(self, rig: Rig, scene: HumScene) -> None:
        self.hum = scene.volts
        super().__init__(rig)

    def play(self, source: np.ndarray) -> InputBlock:
        self.source = source
        return super().play(source)

    def feel(self, t: np.ndarray) -> dict[str, np.ndarray]:
        return {"torque": 2.0 + 0 * t, "voltage": self.hum * np.sin(2 * math.pi * 50 * t) + self.source}
