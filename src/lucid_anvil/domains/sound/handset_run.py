"""One case of a handset's requirement: silence, a tone or a noise at its level, and what comes out."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ...contracts.method import Facts, Performance
from .playing import Player, noise_of, tone_of

if TYPE_CHECKING:
    from .handset_cases import HandsetSettings

BANDS = {"narrow": (100.0, 4000.0), "wide": (50.0, 8000.0)}


def perform(settings: HandsetSettings, facts: Facts) -> Performance:
    play, case = settings.play, settings.case
    run = Player(facts)
    yield from run.rest(0.2)
    scale = next((i.scale for i in facts.inputs if i.role == "stimulus"), 1.0)
    if case == "idle":
        yield from run.sound(tone_of(play.tone, facts), 0.0, play.seconds, "silence")
        run.done("played", case=case)
        yield from run.rest()
        return
    own = tone_of(play.tone, facts) if case == "distortion" else noise_of(*BANDS[settings.band], facts, play.seed)
    yield from run.find(own, "stimulus", scale, play.wanted, "mouth or the line")
    if run.wrong:
        yield from run.refuse("Handset case", "stimulus")
        return
    yield from run.sound(own, play.wanted / run.gain, play.seconds, case)
    run.done("played", case=case, level=run.level("stimulus", scale))
    yield from run.rest()
