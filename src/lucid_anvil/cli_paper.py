"""Papers at the command line: begun from takes, printed, handed over, revised, made again, listed."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

import typer

from .cli_shared import say
from .core.errors import BadInput

paper_app = typer.Typer(help="Papers made of cards, from takes.", no_args_is_help=True)
OK, DIFFERENT = 0, 1
PAPER = typer.Argument(..., metavar="PAPER", help="The paper's file, NAME.paper.yaml.")


def _lab(inside: Path):  # type: ignore[no-untyped-def]
    from .lab.place import lab_of

    found = lab_of(inside)
    if found is None:
        raise BadInput(f"{inside}: it lies in no lab: papers are kept in a lab's folder.")
    return found


@paper_app.command("new")
def paper_new(
    takes: list[Path] = typer.Argument(..., metavar="TAKE..."),
    title: str = typer.Option("", "--title", metavar="TEXT", help="The plan's where none is given."),
) -> int:
    """Begin a paper of one take or several, with the usual cards of each."""
    from .folio.handing import begin_paper
    from .lab.takes import open_take

    held = [open_take(t) for t in takes]
    say(f"Wrote {begin_paper(_lab(held[0].folder), held, title)}.")
    return OK


@paper_app.command("print")
def paper_print(paper: Path = PAPER, pdf: Path = typer.Option(..., "--pdf", metavar="FILE")) -> int:
    """The paper as it stands, as PDF: a draft, or what was handed over last as it lies there."""
    from .folio.papers import compose
    from .lab.papers import in_lab, load_paper

    held, lab = load_paper(paper), _lab(paper)
    if pdf.exists():
        raise BadInput(f"{pdf}: it exists already: choose another name.")
    try:
        pdf.write_bytes(compose(lab, held).pdf if held.open else in_lab(lab, held.issues[-1].file).read_bytes())
    except OSError as problem:
        raise BadInput(f"{problem.filename or pdf}: {problem.strerror}.") from None
    say(f"Wrote {pdf}.")
    return OK


@paper_app.command("hand-over")
def paper_hand_over(paper: Path = PAPER, by: str = typer.Option(..., "--by", metavar="NAME", help="Who signs.")) -> int:
    """Number it and write the PDF that stays."""
    from .folio.handing import hand_over
    from .lab.papers import in_lab, numbered

    lab = _lab(paper)
    issue = hand_over(lab, paper, by)
    say(f"Handed over as {numbered(issue.number, issue.revision)}: {in_lab(lab, issue.file)}.")
    return OK


@paper_app.command("revise")
def paper_revise(paper: Path = PAPER, reason: str = typer.Option(..., "--reason", metavar="TEXT")) -> int:
    """Open a paper that was handed over again; what was handed over stays."""
    from .folio.handing import revise

    say(f"{revise(paper, reason).number}.")
    return OK


@paper_app.command("check")
def paper_check(paper: Path = PAPER) -> int:
    """What was handed over last, made again: 0 where it is the same byte for byte, 1 where not, and what else there is
    to say of it."""
    from .folio.handing import again, troubles
    from .lab.papers import in_lab, load_paper

    held, lab = load_paper(paper), _lab(paper)
    made = again(lab, held)
    said = troubles(lab, held)
    file = in_lab(lab, held.issues[-1].file)
    same = file.exists() and file.read_bytes() == made.pdf
    if not same:
        before = held.issues[-1].sources
        others = sorted(k for k in {*before, *made.sources} if before.get(k) != made.sources.get(k))
        said.append(f"made again it is another one ({', '.join(others) or 'its sources are the same'})")
    for sentence in said:
        say(sentence)
    if not said:
        say("The same, byte for byte.")
    return DIFFERENT if said else OK


@paper_app.command("list")
def paper_list(
    file: Path = typer.Argument(..., metavar="FILE", help=".xlsx or .csv"),
    month: str = typer.Option("", "--month", metavar="YYYY-MM", help="Calibrations and papers of a month."),
    paper: Path | None = typer.Option(None, "--paper", metavar="PAPER", help="Every reading of a paper's takes."),
    lab: Path = typer.Option(Path("."), "--lab", metavar="DIR"),
) -> int:
    """One list for many: a month's calibrations and papers, or a paper's verdicts."""
    from .folio.lists import MONTH, VERDICTS, month_rows, verdict_rows, write_list
    from .lab.place import open_lab

    head: Sequence[str] = MONTH
    if paper is not None:
        rows, head = verdict_rows(_lab(paper), paper), VERDICTS
    else:
        found = re.fullmatch(r"(\d{4})-(\d{2})", month)
        if found is None:
            raise BadInput("Give --month as 2026-11, or --paper.")
        rows = month_rows(open_lab(lab), int(found[1]), int(found[2]))
    write_list(head, rows, file)
    say(f"Wrote {len(rows)} rows to {file}.")
    return OK
