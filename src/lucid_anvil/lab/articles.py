"""What is tested: an article's maker, model, serial number and published figures, kept in its folder below the job."""

from __future__ import annotations

import shutil
from collections.abc import Mapping
from pathlib import Path

from pydantic import Field

from ..contracts.settings import Model, check
from ..core.errors import BadInput
from ..core.quantities import parse
from .patterns import slug
from .photos import article_of
from .place import Lab
from .textfiles import dump_yaml, load_yaml, whole_write

FILE = "article.yaml"


class Article(Model):
    """An article's facts, as `jobs/JOB/ARTICLE/article.yaml` has them."""

    version: int = Field(default=1, alias="lucid-anvil-article")
    name: str
    """As the customer calls it"""
    maker: str = ""
    model: str = ""
    serial: str = ""
    note: str = ""
    figures: dict[str, str] = Field(default_factory=dict)
    """What its maker publishes, such as 'rated power': '40 W'"""

    @property
    def words(self) -> str:
        """Maker, model and serial number in a line; empty where none is known."""
        told = " ".join(w for w in (self.maker, self.model) if w)
        return ", ".join(w for w in (told, f"no. {self.serial}" if self.serial else "") if w)


def folder_of(lab: Lab, name: str) -> Path:
    """Where an article of the open job lies, whether it is there yet or not. Raises BadInput for a name of nothing."""
    return lab.jobs / (lab.facts.job or "bench") / slug(name)


def facts_in(folder: Path) -> Article | None:
    """The facts in an article's folder, or as a take holds them; None where none were given. Raises BadInput."""
    place = folder / FILE
    return check(Article, load_yaml(place), str(place)) if place.is_file() else None


def keep_facts(folder: Path, article: Article) -> Path:
    """Put an article's facts into its folder."""
    folder.mkdir(parents=True, exist_ok=True)
    held = article.model_dump(by_alias=True)
    made = {k: v for k, v in held.items() if v not in ("", {})}
    whole_write(folder / FILE, dump_yaml(made))
    return folder / FILE


def copied_into(take: Path, plan_file: Path) -> None:
    """The facts of the article that a plan's folder lies below, as they are now, into a take."""
    place = plan_file.parent.parent / FILE
    if place.is_file():
        shutil.copyfile(place, take / FILE)


def named(lab: Lab, plan_folder: Path) -> str:
    """What a take in a plan's folder is of, by the names of its folders: article and test; a calibration's sensor."""
    article, test = article_of(lab, plan_folder), plan_folder.name
    if article is None:
        return test.removeprefix("comparison-").upper() if test.startswith("comparison-") else test
    return f"{article.name}, {test}"


def known(lab: Lab) -> dict[str, Path]:
    """Articles of all jobs by name, those of the open job first, with their folders."""
    made: dict[str, Path] = {}
    jobs = sorted((p for p in lab.jobs.iterdir() if p.is_dir()), key=lambda p: p.name != lab.facts.job) \
        if lab.jobs.exists() else []  # fmt: skip
    for folder in (a for job in jobs for a in sorted(job.iterdir()) if a.is_dir()):
        try:
            held = facts_in(folder)
        except BadInput:
            held = None
        if held is not None:
            made.setdefault(held.name, folder)
        elif any(folder.glob("*/*.plan.yaml")):
            made.setdefault(folder.name.replace("-", " "), folder)
    return made


def figures_typed(text: str) -> dict[str, str]:
    """Published figures, a line each: what it is, a colon, its value. Raises BadInput naming the line."""
    made: dict[str, str] = {}
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip():
            continue
        name, mark, value = (part.strip() for part in line.partition(":"))
        if not mark or not name or not value:
            raise BadInput(f"Published figures, line {number}: write 'what: value', such as 'rated power: 40 W'.")
        if name in made:
            raise BadInput(f"Published figures, line {number}: '{name}' stands there twice: leave one out.")
        made[name] = value
    return made


def figures_as_text(figures: Mapping[str, str]) -> str:
    return "\n".join(f"{name}: {value}" for name, value in figures.items())


def figures_in_unit(article: Article | None, unit: str) -> list[tuple[str, str]]:
    """Published figures that a reading in `unit` can be held against: name and value."""
    made = []
    for name, value in (article.figures if article is not None else {}).items():
        try:
            parse(value, unit)
        except BadInput:
            continue
        made.append((name, value))
    return made
