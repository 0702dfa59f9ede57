"""Plans at the command line: begun with usual settings, or to calibrate a sensor of the ledger."""

from __future__ import annotations

from pathlib import Path

import typer

from .cli_shared import say

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
