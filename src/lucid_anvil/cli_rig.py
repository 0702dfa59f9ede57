"""Commands for rigs."""

from __future__ import annotations

from pathlib import Path

import typer

from .cli_shared import JsonOut, give_json, say, show_table

rig_app = typer.Typer(rich_markup_mode=None, no_args_is_help=True, help="Rigs and their front ends.")
FAULT_OUTSIDE = 4


@rig_app.command("check")
def rig_check(
    rig: Path = typer.Argument(..., metavar="RIG"),
    seconds: float = typer.Option(3.0, "--seconds", min=0.5, max=600.0, help="How long it is listened to."),
    drive: float = typer.Option(0.0, "--drive", min=0.0, help="V peak of noise, with a loop-back cable in."),
    json_out: str | None = JsonOut,
) -> int:
    """Who answers, how late, watchdog and losses of a rig's front end."""
    from .contracts.finding import as_json
    from .engine.conformance import ask_instruments, finding_of, places_of, try_rig

    held, tried = try_rig(rig, seconds, drive)
    answered = ask_instruments(held, places_of(held))
    found = finding_of(held, tried, drive)
    told = as_json(found)
    told["instruments"] = [vars(a) for a in answered]
    give_json(told, json_out)
    if json_out != "-":
        show_table(
            [{"reading": r.label, "value": r.value, "unit": r.unit, "verdict": r.verdict} for r in found.readings], None
        )
        for a in answered:
            say(f"{a.name} at {a.where}: {a.identity}" + ("" if a.took is None else f" ({1e3 * a.took:.0f} ms)"))
        for note in found.notes:
            say(note)
    if tried.why is not None and not tried.arrived:
        return FAULT_OUTSIDE
    if any(a.took is None for a in answered):
        return FAULT_OUTSIDE
    return {"outside": 1, "open": 5}.get(found.verdict, 0)
