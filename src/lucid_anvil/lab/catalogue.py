"""The catalogue: what every take of a lab showed, beside the ledger, so that any is found again by what was measured.

It is never the only truth: all of it is read from the takes' own folders, and can be made anew from them alone.
"""

from __future__ import annotations

import contextlib
import datetime
import os
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from ..core.errors import BadInput
from .place import Lab
from .querying import Query, conditions
from .takes import Take, from_file, list_takes

VERSION = 2
Row = dict[str, Any]
Values = dict[int, dict[str, tuple[float | None, str]]]
MANY = 500
"""Takes that are new or changed, after which the database looks at itself anew"""
FILE = "catalogue.sqlite"
metadata = sa.MetaData()
takes = sa.Table(
    "take", metadata,
    sa.Column("id", sa.Integer, primary_key=True),
    sa.Column("path", sa.String(400), nullable=False, unique=True),
    sa.Column("stamp", sa.String(80), nullable=False),
    sa.Column("job", sa.String(120), nullable=False, index=True),
    sa.Column("article", sa.String(120), nullable=False, index=True),
    sa.Column("title", sa.String(200), nullable=False),
    sa.Column("method", sa.String(60), nullable=False, index=True),
    sa.Column("status", sa.String(20), nullable=False),
    sa.Column("verdict", sa.String(10), nullable=False, index=True),
    sa.Column("complete", sa.Boolean, nullable=False),
    sa.Column("begun", sa.DateTime, nullable=False, index=True),
    sa.Column("finding", sa.String(80), nullable=False, server_default=""),
    sa.Column("sha256", sa.String(64), nullable=False, server_default=""),
    sa.Column("words", sa.Text, nullable=False, server_default=""),
)  # fmt: skip
readings = sa.Table(
    "reading", metadata,
    sa.Column("take_id", sa.Integer, sa.ForeignKey("take.id"), nullable=False, index=True),
    sa.Column("key", sa.String(60), nullable=False),
    sa.Column("value", sa.Float),
    sa.Column("unit", sa.String(40), nullable=False),
    sa.Column("uncertainty", sa.Float),
    sa.Column("low", sa.Float),
    sa.Column("high", sa.Float),
    sa.Column("verdict", sa.String(10), nullable=False),
    sa.Column("valid", sa.Boolean, nullable=False),
    sa.Index("reading_by_value", "key", "unit", "value"),
)  # fmt: skip
relied = sa.Table(
    "relied", metadata,
    sa.Column("take_id", sa.Integer, sa.ForeignKey("take.id"), nullable=False, index=True),
    sa.Column("serial", sa.String(60), nullable=False, index=True),
    sa.Column("role", sa.String(40), nullable=False),
    sa.Column("certificate", sa.String(60), nullable=False, server_default=""),
)  # fmt: skip
units = sa.Table(
    "unit", metadata, sa.Column("key", sa.String(60), primary_key=True),
    sa.Column("unit", sa.String(40), primary_key=True),
)  # fmt: skip
"""In which units each reading is kept"""
for _column in (takes.c.article, takes.c.job, takes.c.method, takes.c.verdict, relied.c.serial, relied.c.certificate):
    sa.Index(f"{_column.table.name}_{_column.name}_same", sa.func.lower(_column))  # asked without regard to capitals
about = sa.Table("about", metadata, sa.Column("version", sa.Integer, nullable=False))


@dataclass(frozen=True)
class Found:
    """One take that a query found."""

    take: Take
    job: str
    article: str
    title: str
    method: str
    verdict: str
    begun: datetime.datetime
    values: Mapping[str, tuple[float | None, str]]
    """Value and unit of the readings that the query names"""


class Catalogue:
    """One lab's catalogue, a SQLite file in its folder, or a database at any SQLAlchemy URL."""

    def __init__(self, lab: Lab, url: str | None = None) -> None:
        self.lab = lab
        self.file = lab.folder / FILE
        self.engine = sa.create_engine(url or f"sqlite:///{self.file}")
        with self._said():
            self._begin_anew_if_old()

    @contextlib.contextmanager
    def _said(self) -> Iterator[None]:
        try:
            yield
        except sa.exc.SQLAlchemyError as problem:
            why = " ".join(str(getattr(problem, "orig", None) or problem).split())[:160]
            raise BadInput(f"{self.file}: the catalogue can't be used ({why}): rebuild it.") from None

    def _begin_anew_if_old(self) -> None:
        with self.engine.begin() as link:
            held = sa.inspect(link)
            if held.has_table("about") and link.execute(sa.select(about.c.version)).scalar() == VERSION:
                return
            self._empty(link)

    @staticmethod
    def _empty(link: sa.Connection) -> None:
        metadata.drop_all(link)
        metadata.create_all(link)
        link.execute(about.insert().values(version=VERSION))
        if link.dialect.name == "postgresql":
            with contextlib.suppress(sa.exc.SQLAlchemyError), link.begin_nested():
                # Any part of a word is found by its threes, where the server's extension is there.
                link.exec_driver_sql("create extension if not exists pg_trgm")
                link.exec_driver_sql("create index take_words on take using gin (words gin_trgm_ops)")

    def close(self) -> None:
        self.engine.dispose()

    def rebuild(self) -> tuple[int, list[str]]:
        """Everything anew from the folders alone. How many takes, and what could not be read."""
        with self._said(), self.engine.begin() as link:
            self._empty(link)
        return self.refresh()

    def refresh(self) -> tuple[int, list[str]]:
        """Take up what is new or changed, and let go what is gone."""
        wrong = []
        with self._said(), self.engine.begin() as link:
            known = {r.path: (r.id, r.stamp) for r in link.execute(sa.select(takes.c.path, takes.c.stamp, takes.c.id))}
            told = {(r.key, r.unit) for r in link.execute(sa.select(units))}
            seen, changed = set(), 0
            for take in list_takes(self.lab.jobs):
                path = os.path.relpath(take.folder, self.lab.folder)
                seen.add(path)
                stamp = _stamp(take)
                if path in known and known[path][1] == stamp:
                    continue
                try:
                    held = _read(take, path, stamp)
                except (BadInput, OSError, ValueError, KeyError) as problem:
                    wrong.append(f"{path}: {problem}")
                    continue
                self._forget(link, [known[path][0]] if path in known else [])
                self._put(link, *held)
                new = {(r["key"], r["unit"]) for r in held[1]} - told
                if new:
                    link.execute(units.insert(), [{"key": k, "unit": u} for k, u in sorted(new)])
                    told |= new
                changed += 1
            self._forget(link, [i for path, (i, _) in known.items() if path not in seen])
            if changed > MANY:
                link.exec_driver_sql("analyze")  # else the database plans for what was there before
        return len(seen), wrong

    @staticmethod
    def _forget(link: sa.Connection, ids: Sequence[int]) -> None:
        for i in ids:
            for table in (readings, relied):
                link.execute(table.delete().where(table.c.take_id == i))
            link.execute(takes.delete().where(takes.c.id == i))

    @staticmethod
    def _put(link: sa.Connection, row: Row, values: list[Row], rests: list[Row]) -> None:
        made = link.execute(takes.insert().values(**row)).inserted_primary_key
        assert made is not None
        for table, rows in ((readings, values), (relied, rests)):
            if rows:
                link.execute(table.insert(), [{"take_id": made[0], **r} for r in rows])

    def find(self, query: Query, most: int | None = None) -> list[Found]:
        """Takes that a query finds, newest first. Raises BadInput."""
        with self._said(), self.engine.connect() as link:
            where = conditions(query, takes, readings, relied, {k: _units(link, k) for k in query.keys})
            rows = link.execute(sa.select(takes).where(*where).order_by(takes.c.begun.desc(), takes.c.id.desc())
                                .limit(most)).mappings().all()  # fmt: skip
            values = _values(link, [r["id"] for r in rows], query.keys)
        return [
            Found(Take((self.lab.folder / r["path"]).resolve()), r["job"], r["article"], r["title"], r["method"],
                  r["verdict"], r["begun"], values.get(r["id"], {}))
            for r in query.kept([dict(r) for r in rows], values)
        ]  # fmt: skip

    def facets(self, query: Query) -> dict[str, dict[str, int]]:
        """How many takes of a query there are by job, article, method and verdict."""
        names = ("job", "article", "method", "verdict")
        made: dict[str, dict[str, int]] = {name: {} for name in names}
        with self._said(), self.engine.connect() as link:
            where = conditions(query, takes, readings, relied, {k: _units(link, k) for k in query.keys})
            # Found once, counted four times.
            found = sa.select(*(takes.c[n] for n in names)).where(*where).cte("found")
            counts = [sa.select(sa.literal(n).label("facet"), found.c[n].label("held"), sa.func.count().label("n"))
                      .group_by(found.c[n]) for n in names]  # fmt: skip
            for r in link.execute(sa.union_all(*counts).order_by(sa.desc("n"))):
                made[r.facet][str(r.held)] = int(r.n)
        return made


def _units(link: sa.Connection, key: str) -> list[str]:
    return [str(u) for u in link.execute(sa.select(units.c.unit).where(units.c.key == key)).scalars()]


def _values(link: sa.Connection, ids: Sequence[int], keys: Sequence[str]) -> Values:
    made: Values = {}
    if not keys:
        return made
    for a in range(0, len(ids), 500):
        part = list(ids[a : a + 500])
        query = sa.select(readings).where(readings.c.take_id.in_(part), readings.c.key.in_(list(keys)))
        for r in link.execute(query).mappings():
            made.setdefault(r["take_id"], {})[r["key"]] = (r["value"], r["unit"])
    return made


def _stamp(take: Take) -> str:
    """Changes when the take does: its events, what counts, what is said of it."""
    parts = [f"{os.stat(take.folder / 'events.jsonl').st_mtime_ns:x}"]
    counted = take.counted()
    parts.append("" if counted is None else f"{counted.name}{os.stat(counted).st_mtime_ns:x}")
    return "-".join(parts)[:80]


def _read(take: Take, path: str, stamp: str) -> tuple[Row, list[Row], list[Row]]:
    plan, events, counted = take.plan(), take.events(), take.counted()
    finding = from_file(counted) if counted is not None else None
    begin: Row = next((e for e in events if e["kind"] == "begin"), {})
    end: Row = next((e for e in reversed(events) if e["kind"] == "end"), {})
    wall = float(begin.get("wall") or os.stat(take.folder).st_mtime)
    said = take.remark() or {}
    row = {
        "path": path, "stamp": stamp, "job": plan.job, "article": plan.article, "title": plan.title,
        "method": finding.method if finding else plan.step.method, "status": take.status(),
        "verdict": finding.verdict if finding else "none", "complete": finding.complete if finding else False,
        "begun": datetime.datetime.fromtimestamp(wall), "finding": counted.name if counted else "",
        "sha256": str(end.get("sha256", "")),
        "words": " ".join([plan.title, plan.article, plan.job, path, *map(str, said.values())]).lower(),
    }  # fmt: skip
    values = [
        {"key": r.key, "value": r.value, "unit": r.unit, "uncertainty": r.uncertainty, "low": r.low, "high": r.high,
         "verdict": r.verdict, "valid": r.valid}
        for r in (finding.readings if finding else ())
    ]  # fmt: skip
    rests = [{"serial": s.serial, "role": role, "certificate": s.certificate} for role, s in plan.sensors.items()]
    return row, values, rests
