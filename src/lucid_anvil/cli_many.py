"""Commands for many takes: the catalogue, and reading anew."""

from __future__ import annotations

import sys
from pathlib import Path

import typer

from .cli_shared import JsonOut, LabOption, give_json, say, show_table

catalogue_app = typer.Typer(rich_markup_mode=None, no_args_is_help=True, help="Takes found again by what was measured.")


@catalogue_app.command("rebuild")
def catalogue_rebuild(lab: Path | None = LabOption, json_out: str | None = JsonOut) -> int:
    """Make the catalogue anew from the folders alone."""
    from .lab.catalogue import Catalogue
    from .lab.place import open_lab, usual_lab

    held = Catalogue(open_lab(lab or usual_lab()))
    try:
        count, wrong = held.rebuild()
    finally:
        held.close()
    give_json({"takes": count, "failed": wrong}, json_out)
    say(f"{count} takes." + "".join(f"\n{w}" for w in wrong))
    return 5 if wrong else 0


@catalogue_app.command("find")
def catalogue_find(
    query: list[str] = typer.Argument(..., metavar="QUERY", help="article=FS-2 thd>0.5% since=2026-01-01 ..."),
    lab: Path | None = LabOption,
    json_out: str | None = JsonOut,
    facets: bool = typer.Option(False, "--facets", help="How many by job, article, method and verdict."),
) -> int:
    """Takes of which all of the query is so, newest first."""
    from .lab.catalogue import Catalogue
    from .lab.place import open_lab, usual_lab
    from .lab.querying import parsed

    wanted = parsed(" ".join(query))
    held = Catalogue(open_lab(lab or usual_lab()))
    try:
        held.refresh()
        if facets:
            counts = held.facets(wanted)
            show_table([{"of": k, "name": n, "takes": c} for k, v in counts.items() for n, c in v.items()], json_out)
            return 0
        found = held.find(wanted)
    finally:
        held.close()
    rows = [
        {"take": str(f.take.folder), "article": f.article, "method": f.method, "verdict": f.verdict,
         "begun": f.begun.isoformat(timespec="seconds"), **{k: v for k, (v, _) in f.values.items()}}
        for f in found
    ]  # fmt: skip
    keys = list(dict.fromkeys(k for r in rows for k in r))
    show_table([{k: r.get(k) for k in keys} for r in rows], json_out)
    return 0


def superpose(
    takes: list[Path] = typer.Argument(..., metavar="TAKE", help="Dynamic analyses over frequency, one a temperature."),
    reference: str | None = typer.Option(None, "--reference", metavar="T", help="°C; the middle one when missing."),
    json_out: str | None = JsonOut,
) -> int:
    """A master curve: sweeps at several temperatures moved over one another, WLF and Arrhenius fitted."""
    from .core.quantities import degrees
    from .engine.evaluating import evaluate_take
    from .lab.superposing import master
    from .lab.takes import open_take

    held = [(place.name, evaluate_take(open_take(place))) for place in takes]
    made = master(held, None if reference is None else degrees(reference, "--reference"))
    found = made.found
    laws = {"wlf": found.wlf, "arrhenius": found.arrhenius}
    give_json({
        "reference": found.reference,
        "sweeps": [{"take": n, "temperature": t, "shift": s, "uncertainty": 2 * u}
                   for n, t, s, u in zip(made.names, found.temperatures, found.shifts, found.doubts, strict=True)],
        **{k: None if v is None else {"values": v.values, "uncertainties": [2 * u for u in v.doubts], "rms": v.rest}
           for k, v in laws.items()},
    }, json_out)  # fmt: skip
    for line in made.words():
        say(line)
    return 0


def reread(
    where: str = typer.Option(..., "--where", metavar="QUERY"),
    settings: Path = typer.Option(..., "--settings", metavar="FILE", help="What differs, as YAML."),
    workers: int = typer.Option(1, "--workers", min=1, max=64),
    scheduler: str | None = typer.Option(None, "--scheduler", metavar="ADDRESS", help="Of dask.distributed."),
    lab: Path | None = LabOption,
    json_out: str | None = JsonOut,
) -> int:
    """Read every take of a query anew; findings beside the old ones, and what turned."""
    from .core.errors import BadInput
    from .engine.rereading import reread_all
    from .lab.catalogue import Catalogue
    from .lab.place import open_lab, usual_lab
    from .lab.querying import parsed
    from .lab.textfiles import load_yaml

    given = load_yaml(settings)
    if given is not None and not isinstance(given, dict):
        raise BadInput(f"{settings}: keys and values are wanted here, like 'key: value'.")
    home = open_lab(lab or usual_lab())
    held = Catalogue(home)
    try:
        held.refresh()
        found = [f.take for f in held.find(parsed(where))]
    finally:
        held.close()
    if not found:
        raise BadInput(f"--where '{where}': no take is found by it.")
    step = max(len(found) // 20, 1)

    def tell(done: int, every: int) -> None:
        if done % step == 0 or done == every:
            print(f"\r{done} of {every}", end="\n" if done == every else "", file=sys.stderr, flush=True)

    outcome = reread_all(home, found, dict(given or {}), workers, tell, scheduler)
    turned = [c for c in outcome.changes if c.turned]
    give_json(
        {
            "takes": len(found), "earlier": outcome.earlier,
            "changes": [
                {"take": c.take, "before": c.before, "after": c.after, "readings": [list(r) for r in c.readings]}
                for c in sorted(outcome.changes, key=lambda c: c.take)
            ],
            "turned": sorted(c.take for c in turned), "failed": outcome.failed,
        },
        json_out,
    )  # fmt: skip
    say(f"{len(outcome.changes)} takes read, {len(turned)} verdicts turned, {len(outcome.failed)} failed.")
    if json_out != "-":
        for c in turned:
            say(f"{c.take}: {c.before} → {c.after}")
        for take, why in outcome.failed.items():
            say(f"{take}: {why}")
    after = {c.after for c in outcome.changes}
    return 1 if "outside" in after else 5 if "open" in after or outcome.failed else 0
