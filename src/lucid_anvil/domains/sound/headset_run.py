"""A headset on its couplers: both sides played at once, then what it keeps out of a noise around it, worn and with its
own cancelling on."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ...contracts.method import Facts, Performance
from .playing import Player, noise_of

if TYPE_CHECKING:
    from .headset_check import HeadsetSettings

ON = "Headset on both couplers, the source on the headset"
TURNS = {
    "open": "Headset off the couplers, the source on the loudspeakers of the field",
    "worn": "Headset on both couplers, its noise cancelling off",
    "active": "Its noise cancelling on",
}


def states(settings: HeadsetSettings) -> list[str]:
    """In the order in which they are gone through."""
    return {"none": [], "passive": ["open", "worn"], "active": ["open", "worn", "active"]}[settings.play.attenuation]


def perform(settings: HeadsetSettings, facts: Facts) -> Performance:
    play = settings.play
    run = Player(facts)
    own = noise_of(play.low, play.high, facts, play.seed)
    yield from run.rest()
    yield from run.ask(ON, {"route": "headset", "state": "worn"})
    yield from run.find(own, "stimulus", 1.0, play.level, "headset")
    if run.wrong:
        yield from run.refuse("Headset check", "stimulus")
        return
    yield from run.sound(own, play.level / run.gain, play.seconds, "both sides")
    run.done("played", level=run.level("stimulus", 1.0))
    for state in states(settings):
        yield from run.ask(TURNS[state], {"route": "field", "state": state})
        yield from run.sound(own, play.field, play.seconds, state)
        run.done("state", state=state)
    yield from run.rest()
