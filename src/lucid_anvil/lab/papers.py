"""Papers made of cards: which takes they report, which pages in which order, and what was handed over of them.

A paper is a file a person can read, `papers/NAME.paper.yaml`; what is handed over lies beside it as PDF and is never
written over.
"""

from __future__ import annotations

import datetime
import re
from pathlib import Path
from typing import Any, Literal

from pydantic import Field

from ..contracts.settings import Model, Seconds, check
from ..core.errors import BadInput
from .place import Lab
from .textfiles import dump_yaml, load_yaml, whole_write

ENDING = ".paper.yaml"
KINDS = {
    "cover": "Cover", "summary": "Summary", "series": "Series", "sheet": "Sheet", "readings": "Readings",
    "table": "Table", "curves": "Curves", "conditions": "Conditions", "sensors": "Sensors", "budget": "Budget",
    "photo": "Photo", "attached": "Attached", "text": "Text", "raw": "Raw appendix",
}  # fmt: skip
"""Kinds of cards and what they are called"""
SIZES = ("A4", "A5", "letter")


class Mark(Model):
    """A numbered note on a curve: where on its x axis, and what it says."""

    at: float
    text: str = Field(max_length=400)


class Card(Model):
    """One card: a page, or several. What a kind has no use for stays empty."""

    kind: Literal["cover", "summary", "series", "sheet", "readings", "table", "curves", "conditions", "sensors",
                  "budget", "photo", "attached", "text", "raw"]  # fmt: skip
    take: str = ""
    """The take's folder, from the lab's"""
    out: bool = False
    """Left out of the paper; the card stays"""
    joined: bool = False
    """On the page of the card before, where there is room"""
    title: str = Field(default="", max_length=120)
    text: str = Field(default="", max_length=20_000)
    view: str = ""
    """Key of the method's plot that it shows"""
    x: tuple[float, float] | None = None
    y: tuple[float, float] | None = None
    """Ends of the axes; None: all there is"""
    marks: list[Mark] = Field(default_factory=list, max_length=40)
    file: str = ""
    """Of a photo or an attached PDF, from the lab's folder"""
    every: Seconds | None = None
    """Between two rows of the raw record"""
    frequency: float | None = None
    """Hz, of the budget that is opened; None: the largest doubt"""


class Issue(Model):
    """What was handed over."""

    number: str
    revision: int = 0
    date: datetime.date
    by: str
    """Who signed it"""
    reason: str = ""
    """Why it replaces the one before"""
    file: str
    sha256: str
    sources: dict[str, str] = Field(default_factory=dict)
    """Hashes of all that it was made from"""


class Paper(Model):
    """A paper as its file says it."""

    version: int = Field(default=1, alias="lucid-anvil-paper")
    title: str = Field(max_length=200)
    job: str = ""
    takes: list[str] = Field(default_factory=list, max_length=500)
    size: Literal["A4", "A5", "letter"] = "A4"
    turned: bool = False
    """Landscape"""
    language: str = Field(default="en", pattern="^[a-z]{2}$")
    cards: list[Card] = Field(default_factory=list, max_length=2000)
    issues: list[Issue] = Field(default_factory=list)
    revising: str = ""
    """Why it is being revised; empty while it is not"""

    @property
    def open(self) -> bool:
        """Whether its cards may be changed: what was handed over stays as it is until it is revised."""
        return not self.issues or bool(self.revising)

    @property
    def number(self) -> str:
        """Its number with its revision, or 'draft'."""
        if not self.issues:
            return "draft"
        last = self.issues[-1]
        shown = numbered(last.number, last.revision)
        return f"{shown}, being revised" if self.revising else shown


def numbered(number: str, revision: int) -> str:
    """A paper's number with its revision."""
    return f"{number} rev {revision}" if revision else number


def papers(lab: Lab) -> Path:
    """Where papers are kept."""
    return lab.folder / "papers"


def name_of(place: Path) -> str:
    """A paper's name: its file's, without any ending."""
    return place.name.removesuffix(ENDING).removesuffix(".pdf")


def list_papers(lab: Lab) -> list[Path]:
    """Every paper's file, the one last changed first."""
    made = [(p.stat().st_mtime_ns, p) for p in papers(lab).glob(f"*{ENDING}")]
    return [p for _t, p in sorted(made, key=lambda m: (-m[0], m[1].name))]


def load_paper(place: Path) -> Paper:
    """Raises BadInput with the file's name and what is wrong in it."""
    return check(Paper, load_yaml(place), str(place))


def save_paper(place: Path, paper: Paper) -> None:
    """Raises BadInput where it can't be written."""
    held: dict[str, Any] = paper.model_dump(mode="json", by_alias=True, exclude_defaults=True)
    held = {"lucid-anvil-paper": paper.version, **held}
    for card in held.get("cards", []):
        if "every" in card:
            card["every"] = f"{card['every']:g} s"
    try:
        place.parent.mkdir(parents=True, exist_ok=True)
        whole_write(place, dump_yaml(held))
    except OSError as problem:
        raise BadInput(f"{place}: it can't be written ({problem.strerror}).") from None


def new_place(lab: Lab, title: str) -> Path:
    """A file's name for a new paper; none that is there."""
    stem = re.sub(r"[^\w.-]+", "-", title).strip("-.").lower()[:80] or "paper"
    count, place = 1, papers(lab) / f"{stem}{ENDING}"
    while place.exists():
        count += 1
        place = papers(lab) / f"{stem}-{count}{ENDING}"
    return place


def from_lab(lab: Lab, place: Path) -> str:
    """A path as papers hold it: from the lab's folder where it lies inside."""
    inside = place.resolve()
    root = lab.folder.resolve()
    return inside.relative_to(root).as_posix() if inside.is_relative_to(root) else str(inside)


def in_lab(lab: Lab, held: str) -> Path:
    """The path that a paper holds."""
    return lab.folder / held


def next_number(lab: Lab, year: int) -> str:
    """The number that no paper of the lab has yet."""
    head = f"{lab.facts.certificate_prefix}-R-{year}-"
    wanted = re.compile(rf"^{re.escape(head)}(\d+)(?:-rev\d+)?\.pdf$")
    there = [int(m.group(1)) for p in papers(lab).glob(f"{head}*.pdf") if (m := wanted.match(p.name))]
    return f"{head}{max(there, default=0) + 1:04d}"


def keep_beside(lab: Lab, source: Path, folder: str) -> str:
    """A copy of a photo or PDF among the lab's papers, as a paper holds it; one that is the same is not copied twice.
    Raises BadInput."""
    try:
        content = source.read_bytes()
        kept = papers(lab) / folder
        kept.mkdir(parents=True, exist_ok=True)
        count, place = 1, kept / source.name
        while place.exists() and place.read_bytes() != content:
            count += 1
            place = kept / f"{source.stem}-{count}{source.suffix}"
        if not place.exists():
            place.write_bytes(content)
    except OSError as problem:
        raise BadInput(f"{source}: it can't be kept ({problem.strerror}).") from None
    return from_lab(lab, place)
