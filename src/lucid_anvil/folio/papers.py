"""A paper made from its cards: one PDF, numbered through, attached PDFs on pages of their own among the others.

What it is made from is embedded (hashes of takes, findings, photos, attached files and templates), and without attached
PDFs it is PDF/A-3 (ISO 19005-3): what others put into theirs, nobody here can vouch for.
"""

from __future__ import annotations

import hashlib
import io
import json
import os
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from .. import __version__
from ..core.errors import BadInput
from ..lab.articles import FILE as ARTICLE
from ..lab.articles import Article, facts_in
from ..lab.hashes import digest
from ..lab.papers import KINDS, Card, Issue, Paper, in_lab, numbered
from ..lab.place import Lab
from .cards import Reported, contents, reported, summary_row
from .certificate import fetcher, html_of, own_templates
from .chain import known_sensors
from .words import words

PAGE = {"A4": (210.0, 297.0), "A5": (148.0, 210.0), "letter": (215.9, 279.4)}
"""mm"""
EDGE = (18.0, 22.0)
"""mm left and right, above and below"""
POINT = 72 / 25.4
MOST = 400
"""Pages of an attached PDF"""


@dataclass(frozen=True)
class Made:
    """A paper as it came out."""

    pdf: bytes
    pages: int
    first: dict[int, int]
    """Page (from 0) on which each card that is not left out begins, by the card's place in the paper"""
    sources: dict[str, str]
    """Hashes of what it was made from"""


def compose(lab: Lab, paper: Paper, issue: Issue | None = None) -> Made:
    """The paper as PDF, with a number where it is handed over. Raises BadInput."""
    takes = reported(lab, paper)
    shown = [(i, c) for i, c in enumerate(paper.cards) if not c.out]
    if not shown:
        raise BadInput(f"{paper.title}: all of its cards are left out: put one back.")
    attached = {i: attached_pages(in_lab(lab, c.file)) for i, c in shown if c.kind == "attached"}
    html = html_of(_values(lab, paper, issue, takes, shown, attached), lab, "paper.html")
    sources = sources_of(lab, paper, takes.values())
    pdf, anchors, count = _render(html, lab, paper, sources, not attached)
    first = {i: anchors[f"card-{i}"] for i, _c in shown}
    if attached:
        pdf = _laid_in(pdf, {first[i]: in_lab(lab, paper.cards[i].file) for i in attached}, paper)
    return Made(pdf, count, first, sources)


def page_size(paper: Paper) -> tuple[float, float]:
    """mm wide and high."""
    width, height = PAGE[paper.size]
    return (height, width) if paper.turned else (width, height)


def _values(
    lab: Lab, paper: Paper, issue: Issue | None, takes: dict[str, Reported], shown: Sequence[tuple[int, Card]],
    attached: dict[int, int],
) -> dict[str, Any]:  # fmt: skip
    say = words(paper.language, lab)
    all_of, known = list(takes.values()), known_sensors(lab)
    result = [summary_row(r, known) for r in all_of]
    wide = (page_size(paper)[0] - 2 * EDGE[0]) / 25.4
    cards: list[dict[str, Any]] = []
    for i, card in shown:
        held = contents(card, takes.get(card.take), lab, all_of, result, wide)
        # What is laid in fills pages of its own, and nothing may share the last of them.
        alone = card.kind == "attached" or (cards and cards[-1]["pages"] > 0)
        same = bool(cards) and cards[-1]["of"] == held["of"]
        cards.append({**held, "anchor": f"card-{i}", "pages": attached.get(i, 0), "same": same,
                      "joined": card.joined and not alone})  # fmt: skip
    before = paper.issues[-1] if paper.issues else None
    return {
        "_": say, "lab": lab.facts, "paper": paper, "issue": issue, "before": before, "cards": cards,
        "number": numbered(issue.number, issue.revision) if issue else "draft",
        "titles": KINDS, "logo": logo(lab), "result": result, "several": len(all_of) > 1,
        "articles": articles(all_of), "about": about(all_of), "plan": all_of[0].plan if all_of else None,
        "size": page_size(paper), "edge": EDGE, "small": paper.size == "A5",
    }  # fmt: skip


def articles(all_of: Sequence[Reported]) -> str:
    """What a paper is about, each named once."""
    named = list(dict.fromkeys(r.plan.article for r in all_of if r.plan.article))
    return ", ".join(named[:12]) + (f" and {len(named) - 12} more" if len(named) > 12 else "")


def about(all_of: Sequence[Reported]) -> Article | None:
    """The facts of the article that a paper is about, as its newest take holds them; None where it is about several,
    or nothing more is known of it. Raises BadInput where they can't be read."""
    if len({r.plan.article for r in all_of}) != 1:
        return None
    return next((held for one in reversed(all_of) if (held := facts_in(one.take.folder)) is not None), None)


def logo(lab: Lab) -> str:
    """The lab's logo as pages hold it: 'logo.svg', 'logo.png' or 'logo.jpg' in its templates folder; empty without."""
    for name in ("logo.svg", "logo.png", "logo.jpg"):
        place = lab.folder / "templates" / name
        if place.exists():
            return place.resolve().as_uri()
    return ""


def sources_of(lab: Lab, paper: Paper, takes: Any) -> dict[str, str]:
    """SHA-256 of all that a paper rests on, by path from the lab's folder, and the program's version."""
    made = {"program": f"Lucid Anvil {__version__}"}
    for one in takes:
        held = next(t for t in paper.takes if in_lab(lab, t) == one.take.folder)
        counted = one.take.counted()
        for name in ("plan.yaml", "rig.yaml", ARTICLE, f"findings/{counted.name}" if counted else ""):
            place = one.take.folder / name
            if name and place.is_file():
                made[f"{held}/{name}"] = digest(place)
        # What became of papers and mails is written there too, and changes nothing that a paper says.
        events = json.dumps([e for e in one.take.events() if e["kind"] != "after"], sort_keys=True)
        made[f"{held}/events.jsonl"] = hashlib.sha256(events.encode()).hexdigest()
        noted = next((e["sha256"] for e in reversed(one.take.events()) if e["kind"] == "end" and "sha256" in e), None)
        if noted is not None:
            made[f"{held}/raw.h5"] = str(noted)  # it was held against its record: what differs is said on the paper
    for card in paper.cards:
        if card.file and not card.out:
            made[card.file] = digest(in_lab(lab, card.file))
    own = own_templates(lab)
    for place in sorted(own.iterdir()) if own is not None and own.is_dir() else ():
        if place.is_file():
            made[f"templates/{place.name}"] = digest(place)
    return made


def _render(html: str, lab: Lab, paper: Paper, sources: dict[str, str], archive: bool) -> tuple[bytes, Any, int]:
    """PDF, the page (from 0) of each anchor, and the number of pages."""
    import datetime
    import logging

    for name in ("weasyprint", "fontTools"):
        logging.getLogger(name).setLevel(logging.ERROR)
    os.environ.setdefault("SOURCE_DATE_EPOCH", "0")  # the same paper, the same bytes
    from weasyprint import HTML, Attachment

    epoch = datetime.datetime(2000, 1, 1, tzinfo=datetime.UTC)
    held = json.dumps({"sources": sources, "paper": paper.model_dump(mode="json", by_alias=True, exclude={"issues"})},
                      ensure_ascii=False, indent=1)  # fmt: skip
    note = Attachment(string=held, name="sources.json", description="What this paper was made from", created=epoch,
                      modified=epoch, relationship="Data")  # fmt: skip
    options: dict[str, Any] = {"pdf_variant": "pdf/a-3u"} if archive else {}
    options["pdf_identifier"] = hashlib.sha256(html.encode()).digest()[:16]
    options["attachments"] = [note]
    document = HTML(string=html, url_fetcher=fetcher(own_templates(lab))).render(**options)
    anchors = {name: i for i, page in reversed(list(enumerate(document.pages))) for name in page.anchors}
    return document.write_pdf(**options), anchors, len(document.pages)


def _reader(place: Path) -> Any:
    from pypdf import PdfReader
    from pypdf.errors import PyPdfError

    try:
        reader = PdfReader(place)
        locked = reader.is_encrypted and not reader.decrypt("")
    except OSError as problem:
        raise BadInput(f"{place}: it can't be read ({problem.strerror}).") from None
    except (PyPdfError, ValueError, KeyError, TypeError, AttributeError, RecursionError):
        raise BadInput(f"{place}: this is no PDF that can be attached: make it anew, or take the card off.") from None
    if locked:
        raise BadInput(f"{place}: this PDF opens with a password only: attach one without.")
    return reader


def attached_pages(place: Path) -> int:
    """How many pages a PDF has. Raises BadInput where it can't be attached."""
    from pypdf.errors import PyPdfError

    reader = _reader(place)
    try:
        count = len(reader.pages)
    except (PyPdfError, ValueError, KeyError, TypeError, AttributeError, RecursionError):
        raise BadInput(f"{place}: this is no PDF that can be attached: make it anew, or take the card off.") from None
    if not 0 < count <= MOST:
        raise BadInput(f"{place}: it has {count} pages; 1 to {MOST} can be attached.")
    return count


def _laid_in(pdf: bytes, where: dict[int, Path], paper: Paper) -> bytes:
    """Attached pages laid into the empty ones that were left for them, as large as they fit."""
    from pypdf import PdfReader, PdfWriter, Transformation
    from pypdf.errors import PyPdfError

    writer = PdfWriter(clone_from=PdfReader(io.BytesIO(pdf)))
    width, height = (v * POINT for v in page_size(paper))
    edge_x, edge_y = EDGE[0] * POINT, EDGE[1] * POINT
    for first, place in where.items():
        reader = _reader(place)
        try:
            # A copy of its own: turning a page as it is shown needs a writer that owns it.
            for i, page in enumerate(PdfWriter(clone_from=reader).pages):
                if page.rotation:
                    page.transfer_rotation_to_content()
                box = page.cropbox
                by = min((width - 2 * edge_x) / float(box.width), (height - 2 * edge_y - 8 * POINT) / float(box.height))
                x = (width - by * float(box.width)) / 2 - by * float(box.left)
                y = edge_y - by * float(box.bottom)
                move = Transformation().scale(by).translate(x, y)
                writer.pages[first + i].merge_transformed_page(page, move)
        except (PyPdfError, ValueError, KeyError, TypeError, AttributeError, ZeroDivisionError, RecursionError):
            raise BadInput(f"{place}: this is no PDF that can be attached: take the card off.") from None
    out = io.BytesIO()
    writer.write(out)
    return out.getvalue()
