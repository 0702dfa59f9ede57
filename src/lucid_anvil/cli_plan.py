"""Plans at the command line: begun with usual settings, or to calibrate a sensor of the ledger."""

from __future__ import annotations

from pathlib import Path

import typer

from .cli_shared import say
from .core.errors import BadInput

plan_app = typer.Typer(help="Plans: what is to be done to an article.", no_args_is_help=True)
OK = 0


@plan_app.command("new")
def plan_new(
    method: str = typer.Argument(..., metavar="METHOD"),
    out: Path = typer.Argument(..., metavar="OUT", help="The plan's file, NAME.plan.yaml."),
    rig: Path = typer.Option(..., "--rig", metavar="RIG"),
    article: str = typer.Option(..., "--article", metavar="NAME"),
    title: str = typer.Option("", "--title", metavar="TEXT"),
    record: Path | None = typer.Option(None, "--record", metavar="FILE", help="What a replication plays."),
    channel: str = typer.Option("", "--channel", metavar="NAME", help="Of the record, where it has several."),
    unit: str = typer.Option("", "--unit", metavar="UNIT", help="Of the record, where it states none."),
) -> int:
    """Begin a plan with usual settings, able to run as it is."""
    from .engine.newplan import FromRecord, begin_plan

    source = None if record is None else FromRecord(record, channel, unit)
    say(f"Wrote {begin_plan(method, rig, article, out, title, record=source)}.")
    return OK


@plan_app.command("calibrate")
def plan_calibrate(
    serial: str = typer.Argument(..., metavar="SERIAL"),
    top: str = typer.Option("", "--top", help="Of a force or pressure sensor the highest step, such as '4 kN'."),
    steps: int = typer.Option(10, "--steps"),
    wait: str = typer.Option("30 s", "--wait", help="At each step, before it is read."),
    by_hand: bool = typer.Option(False, "--by-hand", help="A person brings the load up, told what to do."),
    weights: str = typer.Option("", "--weights", metavar="SERIAL", help="Weights or balance of the ledger, laid on."),
    loads: str = typer.Option("", "--loads", help="Which of them, rising, such as '50 kg, 100 kg, 200 kg'."),
    gravity: str = typer.Option("", "--gravity", help="Where the bench stands, such as '9.8128 m/s^2'."),
    read: str = typer.Option("", "--read", metavar="SERIAL", help="A reference of the ledger that a person reads."),
    amplifier: str = typer.Option("", "--amplifier", help="Of a strain gauge in mV/V, such as '5 V/(mV/V)'."),
    as_state: str = typer.Option("as found", "--as", metavar="as found|as left"),
    lab: Path = typer.Option(Path("."), "--lab", metavar="DIR"),
) -> int:
    """A plan that calibrates a sensor of the ledger, on the rig that has its reference."""
    import datetime

    from .lab import planning
    from .lab.place import open_lab
    from .lab.steps_planning import Laid, method_for, steps_plan

    if as_state not in ("as found", "as left"):
        raise BadInput(f"--as {as_state}: use 'as found' or 'as left'.")
    held = open_lab(lab)
    ledger = held.ledger()
    try:
        kind = ledger.entry(serial).sensor.kind
    finally:
        ledger.close()
    today = datetime.date.today()
    if method_for(kind):
        if not top.strip() and not weights:
            raise BadInput("--top: give the highest step, such as '4 kN'.")
        made = steps_plan(held, serial, top=top, today=today, steps=steps, wait=wait, hand=by_hand,
                          amplifier=amplifier, as_state=as_state, read=read,
                          laid=Laid(weights, [w.strip() for w in loads.split(",") if w.strip()], gravity)
                          if weights else None)  # fmt: skip
    else:
        made = planning.calibration_plan(held, serial, today=today, as_state=as_state)
    say(f"Wrote {planning.write_plan(held, serial, made)}.")
    return OK
