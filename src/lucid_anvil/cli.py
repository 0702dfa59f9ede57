"""The command line: all that the window does, without it. Imports are late, so that `--help` is quick."""

from __future__ import annotations

import json
import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from .cli_card import card_app
from .cli_ledger import ledger_app
from .cli_lookout import lookout_app
from .cli_many import catalogue_app, reread, superpose
from .cli_paper import paper_app
from .cli_plan import plan_app
from .cli_rig import rig_app
from .cli_shared import JsonOut, LabOption, give_json, say, show_table
from .core.errors import BadInput

if TYPE_CHECKING:
    from .contracts.finding import Finding

OK, OUTSIDE, BAD_INPUT, CUT, FAULT, OPEN = 0, 1, 2, 3, 4, 5
EXIT_OF_VERDICT = {"outside": OUTSIDE, "open": OPEN, "inside": OK, "none": OK}

app = typer.Typer(
    add_completion=False,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    no_args_is_help=True,
    help="Lucid Anvil, the bench program of a test engineer.",
)
app.add_typer(plan_app, name="plan")
app.add_typer(paper_app, name="paper")
app.add_typer(lookout_app, name="lookout")
app.add_typer(ledger_app, name="ledger")

app.add_typer(card_app, name="soundcard")
app.add_typer(catalogue_app, name="catalogue")
app.add_typer(rig_app, name="rig")
app.command()(reread)
app.command()(superpose)


def show_finding(finding: Finding) -> None:
    """Readings as a table on standard error."""
    from rich.console import Console
    from rich.table import Table

    from .core.figures import fitting
    from .core.quantities import round_to_doubt

    console = Console(stderr=True)
    table = Table(title=f"{finding.method}: {finding.verdict}", title_justify="left", box=None, pad_edge=False)
    for name in ("reading", "value", "± (expanded)", "unit", "verdict"):
        table.add_column(name)
    for r in finding.readings:
        scale, unit = fitting(r.value or 0.0, r.unit)
        wide = None if r.uncertainty is None else r.uncertainty * scale
        value = "–" if r.value is None else round_to_doubt(r.value * scale, wide)
        doubt = "–" if wide is None else round_to_doubt(wide, wide)
        table.add_row(r.label, value, doubt, unit, r.verdict if r.valid else f"{r.verdict}: {r.reason}")
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
    keep: bool = typer.Option(False, "--keep", help="Keep the finding in the take, beside the earlier ones."),
) -> int:
    """Compute a method's readings from a recording or a take."""
    from .engine.evaluating import evaluate_file

    finding = evaluate_file(method, recording, settings, role)
    if keep:
        from .engine.settling import close_take
        from .lab.takes import open_take

        take = open_take(recording if recording.is_dir() else recording.parent)
        close_take(take)
        say(f"Kept as {take.keep(finding)}.")
    from .contracts.finding import as_json

    give_json(as_json(finding), json_out)
    if json_out != "-":
        show_finding(finding)
    return EXIT_OF_VERDICT[finding.verdict]


@app.command()
def run(
    plan: Path = typer.Argument(..., metavar="PLAN"),
    rig: Path | None = typer.Option(None, "--rig", metavar="RIG"),
    pace: str = typer.Option("", "--pace", metavar="real|fast", help="fast needs stand-ins; the default there."),
    take: Path | None = typer.Option(None, "--take", metavar="FILE", help="Where the take goes."),
    json_out: str | None = JsonOut,
    signed_by: str | None = typer.Option(None, "--signed-by", metavar="INITIALS", help="Who signs the walk-round."),
    resume: Path | None = typer.Option(None, "--continue", metavar="TAKE", help="Go on from where this take was cut."),
) -> int:
    """Run a plan and keep its take."""
    from .engine.running import LeftAlone, run_plan, run_series
    from .lab.plans import load_plan

    try:
        if load_plan(plan).several:
            if resume is not None:
                raise BadInput(f"{plan}: it has several steps: go on with the step that was cut, by its own plan.")
            outcome = run_series(plan, rig, pace, take, signed_by, say)
        else:
            outcome = run_plan(plan, rig, pace, take, signed_by, say, resume)
    except LeftAlone:
        return OPEN
    if outcome.finding is not None:
        from .contracts.finding import as_json

        give_json(as_json(outcome.finding), json_out)
        if json_out != "-":
            show_finding(outcome.finding)
    say(f"Take: {outcome.take}" + (f" ({outcome.reason})" if outcome.reason else ""))
    if outcome.status == "failed":
        # Something outside failed: a device that can't be reached, or was lost. The program itself is sound.
        there = (outcome.take / "events.jsonl").exists() or (outcome.take / "series.yaml").exists()
        return CUT if there else FAULT
    if outcome.status == "cut":
        return CUT
    return EXIT_OF_VERDICT[outcome.finding.verdict] if outcome.finding else OPEN


def _run_row(address: Any) -> dict[str, Any]:
    from .engine.launch import get_board

    row: dict[str, Any] = {"run": address.pid, "plan": address.plan, "take": address.take}
    try:
        board = get_board(address, 2.0)
        return {**row, "state": board.state, "t": round(board.t, 1), "title": board.title}
    except OSError:
        return {**row, "state": "does not answer", "t": None, "title": ""}


@app.command()
def runs(json_out: str | None = JsonOut) -> int:
    """Every run of this user, wherever it was started."""
    from .engine import launch

    show_table([_run_row(a) for a in launch.runs()], json_out)
    return OK


RunName = typer.Argument(None, metavar="[RUN]", help="Its number, take or plan; the only one when not given.")


@app.command()
def stop(run: str | None = RunName) -> int:
    """Ease a run down; its take is kept."""
    from .engine import launch

    address = launch.run_named(run)
    try:
        launch.order(address, "stop", why="stopped at the command line")
    except OSError as problem:
        raise RuntimeError(f"the run {address.pid} does not answer ({problem})") from None
    say(f"Run {address.pid} was told to stop. Take: {address.take}")
    return OK


@app.command()
def watch(run: str | None = RunName) -> int:
    """Follow a run to its end; leaving does not touch it."""
    from .engine import launch
    from .engine.running import follow

    address = launch.run_named(run)
    try:
        board = follow(address)
    except KeyboardInterrupt:
        say(f"The run {address.pid} goes on.")
        return OK
    except OSError:
        raise RuntimeError(f"the run {address.pid} is gone; its take is {address.take}") from None
    say(f"Take: {address.take}" + (f" ({board.message})" if board.message else ""))
    if board.state == "failed":
        return FAULT
    if board.trip is not None:
        return CUT
    return EXIT_OF_VERDICT.get(board.verdict or "", OPEN)


@app.command()
def settle(place: Path = typer.Argument(..., metavar="TAKE|LAB")) -> int:
    """Finish what a kill or a full disk left: close files, read, tell the ledger."""
    from .engine import settling
    from .folio.afterwards import after_take
    from .lab.place import lab_of

    failed = 0
    for take in settling.takes_in(place):
        try:
            said = settling.settle(take)
            for line in said:
                say(line)
            lab = lab_of(take.folder)
            late = said and not settling.running(take) and not any(e["kind"] == "after" for e in take.events())
            if late and lab is not None and lab.wants_after(take.folder):
                say(after_take(lab, take).sentence)
        except BadInput as problem:
            failed += 1
            say(f"{take.folder}: {problem}")
    return OUTSIDE if failed else OK


@app.command("support-bundle")
def support_bundle(
    lab: Path = typer.Argument(Path("."), metavar="LAB"),
    out: Path | None = typer.Option(None, "--out", metavar="FILE", help="A zip file; beside the lab when not given."),
) -> int:
    """Versions, rigs, newest plans and events, for whoever mends the program: no raw data, no names."""
    from .engine.bundle import bundle_name, write_bundle
    from .lab.place import open_lab

    held = open_lab(lab)
    place = out if out is not None else bundle_name(held)
    names = write_bundle(held, place)
    say(f"Wrote {place}: {len(names)} files, the first {', '.join(names[:4])}. Look through it before it is sent.")
    return OK


@app.command()
def verify(place: Path = typer.Argument(..., metavar="TAKE|LAB"), json_out: str | None = JsonOut) -> int:
    """Hold raw records against the hashes that were noted when they were made; 1 where one differs."""
    from .engine.settling import takes_in
    from .lab.hashes import wrong

    rows = []
    for take in takes_in(place):
        noted = any("sha256" in e for e in take.events())
        said = wrong(take, anew=True)
        state = said or ("as recorded" if noted else "no hash was noted: the run has no end")
        rows.append({"take": str(take.folder), "state": state, "differs": said is not None})
    show_table(rows, json_out)
    return OUTSIDE if any(r["differs"] for r in rows) else OK


@app.command()
def standin(
    rig: Path = typer.Argument(..., metavar="RIG"),
    port: int = typer.Option(0, "--port", help="Of the first instrument; the next have the next. 0: any that is free."),
) -> int:
    """Start a rig's stand-in instruments alone, for any client, until Ctrl+C."""
    from .rig.model import load_rig
    from .rig.standins.alone import serve_alone

    serve_alone(load_rig(rig), port, say)
    return OK


def _advance(bar: Any, task: Any, share: float) -> None:
    bar.update(task, completed=share)


@app.command()
def rehearse(
    plan: Path = typer.Argument(..., metavar="PLAN"),
    rig: Path | None = typer.Option(None, "--rig", metavar="RIG"),
    json_out: str | None = JsonOut,
) -> int:
    """Run a plan on stand-ins as fast as it goes; 0 if it fits, 1 if not."""
    from functools import partial

    from rich.console import Console
    from rich.progress import Progress

    from .contracts.finding import as_json
    from .engine.preparing import prepare
    from .engine.rehearsal import all_of
    from .engine.rehearsal import rehearse as perform
    from .engine.running import steps_of

    steps = steps_of(plan, rig) or [prepare(plan, rig)]
    made = []
    for prepared in steps:
        with Progress(console=Console(stderr=True), transient=True) as bar:
            task = bar.add_task(f"rehearsing {prepared.plan.title}", total=1.0)
            made.append(perform(prepared, partial(_advance, bar, task)))
    finding = made[0] if len(made) == 1 else all_of([p.plan.title for p in steps], made)
    give_json(as_json(finding), json_out)
    if json_out != "-":
        show_finding(finding)
    return OUTSIDE if finding.verdict == "outside" else OK


@app.command()
def report(
    take: Path = typer.Argument(..., metavar="TAKE"),
    pdf: Path = typer.Option(..., "--pdf", metavar="FILE"),
) -> int:
    """Write the certificate, or the test report, of a take's counted finding."""
    from .folio.certificate import report as write
    from .lab.takes import open_take

    write(open_take(take), pdf)
    say(f"Wrote {pdf}.")
    return OK


@app.command()
def after(
    take: Path | None = typer.Argument(None, metavar="TAKE"),
    trial: bool = typer.Option(False, "--trial", help="Only send a mail that says that mail arrives."),
    again: bool = typer.Option(False, "--again", help="Try anew for half an hour what could not be done."),
    lab: Path | None = LabOption,
) -> int:
    """Do with a take what the lab's rule says: save its papers, mail them. Runs do it by themselves."""
    from .folio.afterwards import after_take, pauses
    from .folio.afterwards import trial as send_trial
    from .lab.place import lab_of, open_lab, usual_lab
    from .lab.takes import open_take

    if trial:
        say(send_trial(open_lab(lab or usual_lab())))
        return OK
    if take is None:
        raise BadInput("after: say which take, or --trial.")
    held = open_take(take)
    home = lab_of(held.folder)
    if home is None:
        raise BadInput(f"{take}: it lies in no lab, so there is no rule.")
    made = after_take(home, held, pauses() if again else ())
    say(made.sentence)
    return OPEN if made.undone else OK


@app.command("export")
def export_(
    take: Path = typer.Argument(..., metavar="TAKE"),
    out: Path = typer.Argument(..., metavar="OUT", help="A .csv or .xlsx file."),
) -> int:
    """Write a take's counted finding as a table: its readings, then each curve."""
    from .engine.evaluating import stated
    from .lab.exporting import export
    from .lab.takes import open_take

    held = open_take(take)
    finding = stated(held)
    if finding is None:
        raise BadInput(f"{take}: it has no finding: read it with 'lucid-anvil settle {take}'.")
    plan, said = held.plan(), held.remark() or {}
    facts = [("take", held.name), ("title", plan.title), ("article", plan.article)]
    facts += [(k, said[n]) for k, n in (("name", "name"), ("remark", "text")) if said.get(n)]
    export(finding, out, facts)
    return OK


@app.command()
def profile(
    file: Path = typer.Argument(..., metavar="FILE"),
    rig: Path | None = typer.Option(None, "--rig", metavar="RIG", help="Check it against this rig's shaker too."),
    json_out: str | None = JsonOut,
) -> int:
    """Work out a sine, random or time profile: crossovers, durations, rms, stroke."""
    from .contracts.finding import as_json
    from .domains.shaker.profile import work_out
    from .domains.shaker.profiles import load_profile

    bench = None
    if rig is not None:
        from .rig.model import load_rig

        bench = load_rig(rig)
    loaded = load_profile(file)
    try:
        finding = work_out(loaded, file.parent, bench)
    except BadInput as problem:
        raise BadInput(f"{file}: {problem}") from None
    give_json(as_json(finding), json_out)
    if json_out != "-":
        show_finding(finding)
    return EXIT_OF_VERDICT[finding.verdict]


@app.command()
def schema(kind: str = typer.Argument(..., metavar="plan|rig|profile")) -> int:
    """Print the JSON Schema of a file that people write."""
    if kind == "plan":
        from .lab.plans import Plan as Wanted
    elif kind == "rig":
        from .rig.model import Rig as Wanted  # type: ignore[assignment]
    elif kind == "profile":
        from .domains.shaker.profiles import json_schema

        print(json.dumps(json_schema(), ensure_ascii=False, indent=1))
        return OK
    else:
        raise BadInput(f"There is no schema '{kind}'; there are plan, rig and profile.")
    print(json.dumps(Wanted.model_json_schema(by_alias=True), ensure_ascii=False, indent=1))
    return OK


@app.command()
def demo(
    headless: Path | None = typer.Option(None, "--headless", metavar="DIR", help="Perform the demo into DIR."),
    lab: Path | None = typer.Option(None, "--lab", metavar="DIR", help="Keep the demo lab here and take it up again."),
) -> int:
    """The window on a scratch copy of the demo lab; with no display, the demo performed."""
    from .desktop.shell.demo import perform_headless, show_window

    if headless is not None or not has_screen():
        return perform_headless(headless or Path("out") / "demo", say)
    return show_window(lab)


@app.command()
def window(lab: Path | None = typer.Argument(None, metavar="LAB")) -> int:
    """The window on a lab's folder; where the folder is missing or empty a lab begins there. Without one: the lab of
    the working folder, else the one that was open last."""
    from .desktop.shell.demo import open_place

    here = Path(".")
    return open_place(lab if lab is not None else here if (here / "lab.yaml").exists() else None)


@app.command()
def accept(
    take: Path = typer.Argument(..., metavar="TAKE"),
    by: str = typer.Option(..., "--by", metavar="INITIALS"),
    as_state: str = typer.Option("as found", "--as", metavar="as found|as left"),
    reason: str = typer.Option("", "--reason", help="Why a calibration that is not complete is certified."),
    due: bool = typer.Option(False, "--due", help="Print the due date on the certificate."),
) -> int:
    """Put a calibration into the ledger and write its certificate, as the window does."""
    from .contracts import registry
    from .folio.accepting import accept_check, accept_take
    from .lab.place import lab_of
    from .lab.takes import open_take

    held = open_take(take)
    lab, finding = lab_of(held.folder), held.finding()
    if lab is None:
        raise BadInput(f"{take}: it lies in no lab: accept takes where their ledger is.")
    if finding is None:
        raise BadInput(f"{take}: it has no finding yet: 'lucid-anvil settle {take}' reads it.")
    if as_state not in ("as found", "as left"):
        raise BadInput(f"--as {as_state}: use 'as found' or 'as left'.")
    method = registry.get(finding.method)
    if method.checks:
        say(accept_check(lab, held, finding, by))
    elif method.calibrates or registry.paper(finding.method) is not None:
        say(f"Accepted as {accept_take(lab, held, finding, as_state, by, due, reason)}.")
    else:
        raise BadInput(f"{take}: {finding.method} is no calibration: there is nothing to accept.")
    return OK


@app.command()
def begin(
    folder: Path = typer.Argument(..., metavar="DIR"),
    name: str = typer.Option(..., "--name", help="As it shall stand on papers."),
    initials: str = typer.Option(..., "--initials", help="Who signs."),
    address: str = typer.Option("", "--address", help="Parts apart by commas."),
    stand_ins: bool = typer.Option(False, "--stand-ins", help="With benches of stand-ins, to practise on."),
) -> int:
    """Begin a lab in a folder that is missing or empty."""
    from .lab.beginning import begin_lab

    lab = begin_lab(folder, name, [a.strip() for a in address.split(",")], initials, stand_ins)
    say(f"{lab.folder}: the lab {lab.facts.name} has begun.")
    return OK


lab_app = typer.Typer(help="Labs: folders with their ledger, rigs, jobs and papers.", no_args_is_help=True)
app.add_typer(lab_app, name="lab")


@lab_app.command("new")
def lab_new(
    folder: Path = typer.Argument(..., metavar="DIR"),
    name: str = typer.Option("", "--name", help="As it shall stand on papers; the folder's when not given."),
    initials: str = typer.Option("", "--initials", help="Who signs; the account's when not given."),
    address: str = typer.Option("", "--address", help="Parts apart by commas."),
    stand_ins: bool = typer.Option(False, "--stand-ins", help="With benches of stand-ins, to practise on."),
) -> int:
    """Begin a lab in a folder that is missing or empty."""
    import getpass

    given = name or folder.resolve().name.replace("-", " ").replace("_", " ").capitalize()
    return begin(folder, given, initials or getpass.getuser()[:8].upper(), address, stand_ins)


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
    from .contracts import registry
    from .contracts.explained import explained

    if name is None:
        for each in registry.names():
            print(f"{each}  {registry.get(each).title}")
        for missing, why in registry.broken().items():
            say(f"The domain '{missing}' is left out: {why}.")
        return OK
    method = registry.get(name)
    print(f"{method.name}: {method.title}\n\nroles\n  " + ", ".join(method.roles))
    print("\nsettings")
    for s in explained(method.Settings):
        unit = f" [{s.unit}]" if s.unit else f" [{', '.join(s.choices)}]" if s.choices else ""
        meaning = f"  {s.meaning}" if s.meaning else ""
        print(f"  {s.key}{unit}: {'needed' if s.needed else f'default {s.usual!r}'}{meaning}")
    for title, rows in (("readings", method.readings), ("curves", method.curves)):
        print(f"\n{title}")
        for key, text in rows.items():
            print(f"  {key}: {text}")
    return OK


def has_screen() -> bool:
    """Whether a window can be shown."""
    return any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY"))


def main() -> None:
    """Entry point: maps what happened to the exit codes that scripts rely on."""
    try:
        if len(sys.argv) == 1 and has_screen():
            from .desktop.shell.demo import open_place

            sys.exit(open_place(None))
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
        import traceback

        if os.environ.get("LUCID_ANVIL_TRACE"):
            traceback.print_exc()
        say(f"Lucid Anvil failed: {type(problem).__name__}: {problem} (set LUCID_ANVIL_TRACE=1 to see where).")
        code = FAULT
    sys.exit(code if isinstance(code, int) else OK)


if __name__ == "__main__":
    main()
