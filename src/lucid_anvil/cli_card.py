"""A sound card at the command line."""

from __future__ import annotations

import sys
from pathlib import Path

import typer

from .cli_shared import JsonOut, say, show_table

OK = 0
card_app = typer.Typer(rich_markup_mode=None, no_args_is_help=True, help="A sound card as the front end.")


@card_app.command("list")
def soundcard_list(json_out: str | None = JsonOut) -> int:
    """The cards that play and record."""
    from .rig.soundcard import cards

    show_table(cards(), json_out)
    return OK


@card_app.command("calibrate")
def soundcard_calibrate(rig: Path = typer.Argument(..., metavar="RIG")) -> int:
    """A tone on each output, cabled to its input: type what a voltmeter shows; volts and delay go into the rig file."""
    import datetime

    from .core.quantities import parse
    from .rig.card_calibration import calibrate, put_card
    from .rig.model import load_rig

    def ask(text: str) -> float:
        print(f"{text}: ", end="", file=sys.stderr, flush=True)
        return parse(sys.stdin.readline().strip(), "V", "the meter's reading")

    put_card(rig, calibrate(load_rig(rig), ask, say), datetime.date.today())
    say(f"Wrote {rig}.")
    return OK
