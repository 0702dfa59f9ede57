"""The command line: all that the window does, without it. Imports are late, so that `--help` is quick."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from .core.errors import BadInput

if TYPE_CHECKING:
    from .lab.findings import Finding

OK, OUTSIDE, BAD_INPUT, CUT, FAULT, OPEN = 0, 1, 2, 3, 4, 5
EXIT_OF_VERDICT = {"outside": OUTSIDE, "open": OPEN, "inside": OK, "none": OK}

app = typer.Typer(
    add_completion=False,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    no_args_is_help=True,
    help="Lucid Anvil, the bench program of a test engineer.",
)
ledger_app = typer.Typer(rich_markup_mode=None, no_args_is_help=True, help="Sensors and their calibrations.")
app.add_typer(ledger_app, name="ledger")

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


def show_finding(finding: Finding) -> None:
    """Readings as a table on standard error."""
    from rich.console import Console
    from rich.table import Table

    from .core.quantities import round_to_doubt

    console = Console(stderr=True)
    table = Table(title=f"{finding.method}: {finding.verdict}", title_justify="left", box=None, pad_edge=False)
    for name in ("reading", "value", "± (expanded)", "unit", "verdict"):
        table.add_column(name)
    for r in finding.readings:
        value = "–" if r.value is None else round_to_doubt(r.value, r.uncertainty)
        doubt = "–" if r.uncertainty is None else round_to_doubt(r.uncertainty, r.uncertainty)
        table.add_row(r.label, value, doubt, r.unit, r.verdict if r.valid else f"{r.verdict}: {r.reason}")
    console.print(table)
    for note in finding.notes:
        console.print(f"· {note}", style="dim", highlight=False)


@app.command()
def evaluate(
    method: str = typer.Argument(..., metavar="METHOD"),
    recording: Path = typer.Argument(..., metavar="RECORDING"),
    settings: Path | None = typer.Option(None, "--settings", metavar="FILE"),
    role: list[str] = typer.Option([], "--role", metavar="ROLE=CHANNEL"),
    json_out: str | None = JsonOut,
) -> int:
    """Compute a method's readings from a recording or a take."""
    from .engine.evaluating import evaluate_file

    finding = evaluate_file(method, recording, settings, role)
    from .lab.findings import as_json

    give_json(as_json(finding), json_out)
    if json_out != "-":
        show_finding(finding)
    return EXIT_OF_VERDICT[finding.verdict]


@app.command()
def convert(source: Path = typer.Argument(..., metavar="IN"), target: Path = typer.Argument(..., metavar="OUT")) -> int:
    """Convert a record between open formats, by file ending."""
    from .formats import read, write

    write(target, read(source))
    say(f"Wrote {target}.")
    return OK


@app.command()
def methods(name: str | None = typer.Argument(None, metavar="[NAME]")) -> int:
    """List the methods; or settings, roles, readings and curves of one."""
    from .methods import registry

    if name is None:
        for each in registry.names():
            print(f"{each}  {registry.get(each).title}")
        return OK
    method = registry.get(name)
    print(f"{method.name}: {method.title}\n\nroles\n  " + ", ".join(method.roles))
    print("\nsettings")
    for key, field in method.Settings.model_fields.items():
        default = "needed" if field.is_required() else f"default {field.get_default(call_default_factory=True)!r}"
        print(f"  {key}: {default}")
    for title, rows in (("readings", method.readings), ("curves", method.curves)):
        print(f"\n{title}")
        for key, text in rows.items():
            print(f"  {key}: {text}")
    return OK


def main() -> None:
    """Entry point: maps what happened to the exit codes that scripts rely on."""
    try:
        code = app(standalone_mode=False)
    except BadInput as problem:
        say(" ".join(str(problem).split()))
        code = BAD_INPUT
    except (KeyboardInterrupt, typer.Abort):
        code = CUT
    except BrokenPipeError:
        code = OK
    except Exception as problem:
        if hasattr(problem, "format_message"):  # a usage error of the command line itself
            say(" ".join(problem.format_message().split()) + " See --help.")
            sys.exit(BAD_INPUT)
        import os
        import traceback

        if os.environ.get("LUCID_ANVIL_TRACE"):
            traceback.print_exc()
        say(f"Lucid Anvil failed: {type(problem).__name__}: {problem} (set LUCID_ANVIL_TRACE=1 to see where).")
        code = FAULT
    sys.exit(code if isinstance(code, int) else OK)


if __name__ == "__main__":
    main()
