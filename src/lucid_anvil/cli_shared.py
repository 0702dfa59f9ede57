"""What all commands share: where words go, JSON, tables, the lab that is meant."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

import typer

from .core.errors import BadInput

JsonOut = typer.Option(None, "--json", metavar="FILE|-", help="Write the findings as JSON; - is standard output.")


def say(text: str) -> None:
    """A message for a person: always to standard error, so that standard output stays JSON alone."""
    print(text, file=sys.stderr)


def give_json(data: Any, where: str | None) -> None:
    """Write JSON where asked; whole or not at all."""
    if where is None:
        return
    text = json.dumps(data, ensure_ascii=False, indent=1, allow_nan=False) + "\n"
    if where == "-":
        sys.stdout.write(text)
        sys.stdout.flush()
        return
    place = Path(where)
    part = place.with_name(place.name + ".part")
    try:
        part.write_text(text, encoding="utf-8")
        part.replace(place)
    except OSError as problem:
        part.unlink(missing_ok=True)
        raise BadInput(f"{place}: it can't be written ({problem.strerror}).") from None


LabOption = typer.Option(None, "--lab", metavar="DIR", help="The lab's folder; else LUCID_ANVIL_LAB, else here.")


def show_table(rows: list[dict[str, Any]], json_out: str | None) -> None:
    give_json(rows, json_out)
    if json_out == "-":
        return
    from rich.console import Console
    from rich.table import Table

    table = Table(box=None, pad_edge=False)
    for name in rows[0] if rows else ():
        table.add_column(name)
    for row in rows:
        table.add_row(*("–" if v is None else f"{v:.5g}" if isinstance(v, float) else str(v) for v in row.values()))
    console = Console()
    if not console.is_terminal:
        console = Console(width=160)
    console.print(table) if rows else say("None.")
