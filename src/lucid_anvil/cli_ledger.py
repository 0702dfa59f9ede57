"""The ledger at the command line."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import typer

from .cli_shared import JsonOut, LabOption, say, show_table
from .core.errors import BadInput

OK = 0
ledger_app = typer.Typer(rich_markup_mode=None, no_args_is_help=True, help="Sensors and their calibrations.")


def _ledger(lab: Path | None) -> Any:
    from .lab.place import open_lab, usual_lab

    return open_lab(lab or usual_lab()).ledger()


def _entry_rows(entries: Any) -> list[dict[str, Any]]:
    import datetime

    today = datetime.date.today()
    return [
        {
            "serial": e.sensor.serial, "kind": e.sensor.kind, "maker": e.sensor.maker, "model": e.sensor.model,
            "sensitivity": e.last.sensitivity if e.last else None, "unit": e.sensor.unit,
            "calibrated": e.last.date.isoformat() if e.last else None,
            "due": e.due.isoformat() if e.due else None, "days_left": e.days_left(today),
        }
        for e in entries
    ]  # fmt: skip


@ledger_app.command("list")
def ledger_list(lab: Path | None = LabOption, json_out: str | None = JsonOut) -> int:
    """All sensors."""
    show_table(_entry_rows(_ledger(lab).entries()), json_out)
    return OK


@ledger_app.command("due")
def ledger_due(
    days: int = typer.Option(60, "--days"), lab: Path | None = LabOption, json_out: str | None = JsonOut
) -> int:
    """What is due or overdue, soonest first."""
    import datetime

    show_table(_entry_rows(_ledger(lab).due(datetime.date.today(), days)), json_out)
    return OK


@ledger_app.command("show")
def ledger_show(serial: str, lab: Path | None = LabOption, json_out: str | None = JsonOut) -> int:
    """One sensor's calibrations, oldest first."""
    entry = _ledger(lab).entry(serial)
    rows = [
        {
            "date": c.date.isoformat(), "as": c.as_state, "sensitivity": c.sensitivity, "unit": c.unit,
            "uncertainty %": c.uncertainty, "certificate": c.certificate, "due": c.due.isoformat() if c.due else None,
            "verdict": c.verdict, "by": c.by,
        }
        for c in entry.history
    ]  # fmt: skip
    show_table(rows, json_out)
    return OK


@ledger_app.command("traces")
def ledger_traces(serial: str, lab: Path | None = LabOption, json_out: str | None = JsonOut) -> int:
    """Which takes rest on a sensor."""
    rows = [{**r, "at": r["at"].isoformat(timespec="minutes")} for r in _ledger(lab).traces(serial)]
    show_table(rows, json_out)
    return OK


@ledger_app.command("add")
def ledger_add(
    serial: str,
    kind: str = typer.Option("accelerometer", "--kind"),
    nominal: str | None = typer.Option(None, "--nominal", metavar="QUANTITY"),
    maker: str = typer.Option("", "--maker"),
    model: str = typer.Option("", "--model"),
    months: int | None = typer.Option(None, "--months", help="Interval between calibrations."),
    lab: Path | None = LabOption,
) -> int:
    """Enter a new sensor."""
    from .core.quantities import parse, sensitivity_unit, split
    from .lab.ledger import Sensor

    unit, value = "mV/(m/s²)", None
    if nominal is not None:
        unit = sensitivity_unit(nominal) if kind == "accelerometer" else split(nominal)[1] or "mV"
        value = parse(nominal, unit, "--nominal")
    _ledger(lab).add(Sensor(serial, kind, maker, model, value, unit, interval_months=months))
    say(f"Entered {serial}.")
    return OK


@ledger_app.command("calibrate")
def ledger_calibrate(
    serial: str,
    value: str = typer.Option(..., "--value", metavar="QUANTITY", help="As the certificate states it."),
    date: str = typer.Option(..., "--date", metavar="YYYY-MM-DD"),
    laboratory: str = typer.Option(..., "--laboratory"),
    number: str = typer.Option(..., "--number", help="The certificate's."),
    doubt: str = typer.Option("", "--uncertainty", metavar="QUANTITY", help="Expanded, in % or in the value's unit."),
    coverage: str = typer.Option("2", "--coverage", help="The coverage factor of that."),
    frequency: str = typer.Option("160 Hz", "--frequency"),
    due: str = typer.Option("", "--due", metavar="YYYY-MM-DD"),
    table: Path | None = typer.Option(None, "--table", metavar="FILE", help="Rows of Hz, sensitivity, uncertainty."),
    paper: Path | None = typer.Option(None, "--paper", metavar="FILE", help="The certificate itself, to be kept."),
    lab: Path | None = LabOption,
) -> int:
    """Enter a certificate that another laboratory wrote."""
    from .lab.elsewhere import calibration_from, keep_paper
    from .lab.place import open_lab, usual_lab

    place = open_lab(lab or usual_lab())
    ledger = place.ledger()
    for file in (table, paper):
        if file is not None and not file.is_file():
            raise BadInput(f"{file}: there is no such file.")
    rows = table.read_text(encoding="utf-8-sig") if table is not None else ""
    try:
        made = calibration_from(ledger.entry(serial).sensor, value, date, laboratory, number, doubt, coverage,
                                frequency, due, rows)  # fmt: skip
    except BadInput as problem:
        raise BadInput(f"{table}, {problem}" if str(problem).startswith("line ") else str(problem)) from None
    if paper is not None:
        keep_paper(place, made.certificate, paper)
    ledger.append(serial, made)
    say(f"Entered {made.certificate} for {serial}.")
    return OK


@ledger_app.command("change")
def ledger_change(
    serial: str,
    values: list[str] = typer.Argument(..., metavar="KEY=VALUE...", help="Such as model=A1 or tolerance='5 %'."),
    by: str = typer.Option(..., "--by", metavar="INITIALS"),
    why: str = typer.Option("", "--why", metavar="TEXT"),
    lab: Path | None = LabOption,
) -> int:
    """Change a sensor's entry; what stood there before is kept."""
    from .lab.entering import changes_from

    ledger = _ledger(lab)
    held = dict(v.partition("=")[::2] for v in values)
    if any("=" not in v for v in values):
        raise BadInput("Write each change as KEY=VALUE, such as model=A1.")
    ledger.change(serial, by, why, **changes_from(ledger.entry(serial).sensor, held))
    say(f"Changed {serial}.")
    return OK


@ledger_app.command("retire")
def ledger_retire(
    serial: str,
    why: str = typer.Option(..., "--why", metavar="TEXT"),
    by: str = typer.Option(..., "--by", metavar="INITIALS"),
    on: str = typer.Option("", "--on", metavar="YYYY-MM-DD", help="Today when not given."),
    lab: Path | None = LabOption,
) -> int:
    """From a day on nothing new may rest on a sensor."""
    from .lab.entering import day_of

    _ledger(lab).retire(serial, by, why, day_of(on, "--on"))
    say(f"Retired {serial}.")
    return OK


@ledger_app.command("move")
def ledger_move(
    url: str = typer.Argument(..., metavar="URL", help="Of an empty database, such as postgresql+psycopg://host/name."),
    lab: Path | None = LabOption,
    json_out: str | None = JsonOut,
) -> int:
    """Copy the ledger to another database, compare every row, and use it from then on; the old one stays."""
    from .lab.moving import move_ledger
    from .lab.place import open_lab, usual_lab

    counts = move_ledger(open_lab(lab or usual_lab()), url)
    show_table([{"table": name, "rows": n} for name, n in counts.items()], json_out)
    say("Every row is the same there; the lab's file names the new place.")
    return OK
