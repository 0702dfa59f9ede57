"""Papers begun, handed over and revised: numbered once, signed by who may sign, never written over."""

from __future__ import annotations

import datetime
import hashlib
import os
from collections.abc import Mapping, Sequence
from pathlib import Path

from ..core.errors import BadInput
from ..engine.settling import close_take
from ..lab.hashes import digest
from ..lab.ledger import Entry
from ..lab.papers import (
    Card,
    Issue,
    Paper,
    from_lab,
    in_lab,
    load_paper,
    new_place,
    next_number,
    numbered,
    papers,
    save_paper,
)
from ..lab.place import Lab
from ..lab.takes import Take
from .cards import first_cards, report_of
from .chain import Grounds, grounds_of, known_sensors
from .papers import Made, compose

TRIES = 20
"""Numbers that are tried when others hand over at the same time"""


def begin_paper(lab: Lab, takes: Sequence[Take], title: str = "") -> Path:
    """A new draft with the usual cards of each take. Raises BadInput where a take has no finding."""
    if not takes:
        raise BadInput("A paper reports takes: choose one at least.")
    cards = [Card(kind="cover")]
    if len(takes) > 1:
        cards.append(Card(kind="summary"))
    held = []
    for take in takes:
        close_take(take)
        held.append(report_of(take.folder))
    if len(held) > 1 and len({r.finding.method for r in held}) == 1:
        cards.append(Card(kind="series", joined=True))
    for one in held:
        cards += first_cards(lab, one)
    name = title.strip() or (held[0].name if len(held) == 1 else f"{held[0].name} and {len(held) - 1} more")
    paper = Paper(
        title=name[:200], job=held[0].take.plan().job, takes=[from_lab(lab, t.folder) for t in takes], cards=cards
    )
    place = new_place(lab, name)
    save_paper(place, paper)
    return place


def may_sign(lab: Lab) -> list[str]:
    """Who may sign papers: whom lab.yaml lists under `may_sign`, else its signatory."""
    facts = lab.facts
    return list(facts.may_sign) or [n for n in (facts.signatory,) if n]


def hand_over(lab: Lab, place: Path, by: str, today: datetime.date | None = None) -> Issue:
    """Number it, sign it, and write the PDF that stays. Raises BadInput where it was handed over already, or the one
    who signs may not."""
    paper = load_paper(place)
    if not paper.open:
        raise BadInput(f"{paper.title}: it was handed over as {paper.number}: revise it, with a reason.")
    names = may_sign(lab)
    by = by.strip()
    if not by:
        raise BadInput("Say who signs it.")
    if names and by not in names:
        raise BadInput(f"{by} may not sign papers of this lab: {', '.join(names)} may (lab.yaml, 'may_sign').")
    date = today or datetime.date.today()
    folder = papers(lab)
    for _ in range(TRIES):
        if paper.issues:
            number, revision = paper.issues[-1].number, paper.issues[-1].revision + 1
        else:
            number, revision = next_number(lab, date.year), 0
        file = folder / (f"{number}-rev{revision}.pdf" if revision else f"{number}.pdf")
        issue = Issue(number=number, revision=revision, date=date, by=by, reason=paper.revising,
                      file=from_lab(lab, file), sha256="")  # fmt: skip
        made = compose(lab, paper, issue)
        if not _write_once(file, made.pdf):
            if revision:
                raise BadInput(f"{file}: a paper of that number and revision is there already: look at it first.")
            continue
        issue = issue.model_copy(update={"sha256": hashlib.sha256(made.pdf).hexdigest(), "sources": made.sources})
        save_paper(place, paper.model_copy(update={"issues": [*paper.issues, issue], "revising": ""}))
        return issue
    raise BadInput(f"{folder}: no number could be had in {TRIES} tries: others hand over too; try again.")


def _write_once(place: Path, content: bytes) -> bool:
    """Whether it could be written: False where something stands there."""
    part = place.with_name(f".{place.name}.{os.getpid()}.part")
    try:
        with part.open("wb") as file:
            file.write(content)
            file.flush()
            os.fsync(file.fileno())
        os.link(part, place)
    except FileExistsError:
        return False
    except OSError as problem:
        raise BadInput(f"{place}: it can't be written ({problem.strerror or problem}).") from None
    finally:
        part.unlink(missing_ok=True)
    return True


def revise(place: Path, reason: str) -> Paper:
    """Open a handed-over paper's cards again; what was handed over stays. Raises BadInput without a reason."""
    paper = load_paper(place)
    if not paper.issues:
        raise BadInput(f"{paper.title}: it was never handed over: change its cards as they are.")
    if not reason.strip():
        raise BadInput("Say why it is revised: the reason stands on the new one.")
    made = paper.model_copy(update={"revising": reason.strip()})
    save_paper(place, made)
    return made


def again(lab: Lab, paper: Paper) -> Made:
    """The paper that was handed over last, made anew from the same cards: byte for byte the same while its sources
    are. Raises BadInput."""
    if not paper.issues or paper.revising:
        raise BadInput(f"{paper.title}: it is a draft: there is nothing to compare with.")
    return compose(lab, *before_handing(paper))


def before_handing(paper: Paper) -> tuple[Paper, Issue]:
    """The paper as it stood when it was handed over last, and that issue."""
    last = paper.issues[-1]
    stood = paper.model_copy(update={"issues": paper.issues[:-1], "revising": last.reason})
    return stood, last.model_copy(update={"sha256": "", "sources": {}})


def troubles(lab: Lab, paper: Paper, grounds: Mapping[Path, Grounds] | None = None) -> list[str]:
    """What a reader of the last issue should know: a file that is not what was handed over, a take that turned out
    doubtful since, a sensor that was found off since. `grounds`: of its takes by folder, as far as they are read; all
    are read where it is not given."""
    made: list[str] = []
    known: Mapping[str, Entry] = {}
    if grounds is None:
        try:
            known = known_sensors(lab)
        except BadInput as problem:
            made.append(f"the ledger can't be looked into: {problem}")
    for held in paper.takes:
        folder = in_lab(lab, held)
        if not folder.is_dir():
            made.append(f"{held}: this take is gone")
            continue
        one = grounds_of(folder, known) if grounds is None else grounds.get(folder)
        if one is not None:
            made += [f"{held}: {said}" for said in (one.doubt, *one.wrong) if said]
    if not paper.issues:
        return made
    last = paper.issues[-1]
    file = in_lab(lab, last.file)
    if not file.exists():
        made.append(f"{file.name}: the file is gone")
    elif digest(file) != last.sha256:
        made.append(f"{file.name}: the file is not the one that was handed over")
    return made


def shown_number(issue: Issue) -> str:
    """An issue's number with its revision."""
    return numbered(issue.number, issue.revision)
