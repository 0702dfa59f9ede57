"""A query of takes, as a person types it: words and terms, all of which must be so.

    article=FS-2 method=tension modulus<200GPa verdict=outside since=2026-01-01
    job~quay sensor=GA-07 thd:rose>50% within=365d coupon

`=` is the same, `~` contains, `!=` is not; readings are compared with their unit. `KEY:rose` compares an article's
value with its lowest before (`KEY:fell` with its highest); `within` says how far back. A plain word stands anywhere in
title, article, job, remark or path.
"""

from __future__ import annotations

import datetime
import difflib
import re
import shlex
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from ..core.errors import BadInput
from ..core.quantities import parse, same_kind, split

FIELDS = ("article", "job", "method", "verdict", "status", "title", "sensor", "certificate", "since", "before",
          "within")  # fmt: skip
_TERM = re.compile(r"^([A-Za-z][\w.]*)(:rose|:fell)?(>=|<=|!=|=|<|>|~)(.+)$")


@dataclass(frozen=True)
class Term:
    """One comparison."""

    key: str
    way: str
    """Empty, rose or fell"""
    sign: str
    value: str


@dataclass(frozen=True)
class Query:
    """What must be so, all of it."""

    terms: tuple[Term, ...]
    words: tuple[str, ...]

    @property
    def keys(self) -> list[str]:
        """Readings that it names."""
        return list(dict.fromkeys(t.key for t in self.terms if t.key not in FIELDS))

    def kept(self, rows: Sequence[Mapping[str, Any]], values: Mapping[int, Mapping[str, tuple[float | None, str]]]
             ) -> list[Mapping[str, Any]]:  # fmt: skip
        """Rows, newest first, that the changes over time leave."""
        made = list(rows)
        within = next((parse(t.value, "s", "within") for t in self.terms if t.key == "within"), None)
        for term in (t for t in self.terms if t.way):
            share = parse(term.value, "%", f"{term.key}:{term.way}") / 100
            made = [r for r in made if _moved(r, made, values, term, share, within)]
        return made


def _moved(
    row: Mapping[str, Any], rows: Sequence[Mapping[str, Any]],
    values: Mapping[int, Mapping[str, tuple[float | None, str]]], term: Term, share: float, within: float | None,
) -> bool:  # fmt: skip
    now, unit = values.get(row["id"], {}).get(term.key, (None, ""))
    if now is None:
        return False
    earlier = []
    for r in rows:
        if r["article"] != row["article"] or r["method"] != row["method"] or not r["begun"] < row["begun"]:
            continue
        if within is not None and (row["begun"] - r["begun"]).total_seconds() > within:
            continue
        was, own = values.get(r["id"], {}).get(term.key, (None, ""))
        if was is not None and own == unit:
            earlier.append(was)
    if not earlier:
        return False
    change = (now - min(earlier)) / abs(min(earlier) or 1e-300) if term.way == "rose" else (
        (max(earlier) - now) / abs(max(earlier) or 1e-300))  # fmt: skip
    return change > share if term.sign == ">" else change >= share if term.sign == ">=" else (
        change < share if term.sign == "<" else change <= share)  # fmt: skip


def parsed(text: str) -> Query:
    """A query from what was typed. Raises BadInput."""
    try:
        pieces = shlex.split(text)
    except ValueError:
        raise BadInput(f"'{text}': a quotation mark has no end.") from None
    terms, words = [], []
    for piece in pieces:
        found = _TERM.match(piece)
        if found is None:
            words.append(piece.lower())
            continue
        key, way, sign, value = found[1], (found[2] or "").removeprefix(":"), found[3], found[4]
        if way and sign not in (">", ">=", "<", "<="):
            raise BadInput(f"'{piece}': compare a change by > or <, like {key}:{way}>50%.")
        if key in FIELDS and sign not in ("=", "!=", "~"):
            raise BadInput(f"'{piece}': {key} is compared by =, != or ~.")
        if key in ("since", "before"):
            _day(value, key)
        if key == "within":
            parse(value, "s", "within")
        if key not in FIELDS and not way and sign in ("=", "~"):
            near = difflib.get_close_matches(key, FIELDS, 1, 0.7)
            if near:
                raise BadInput(f"'{piece}': did you mean '{near[0]}'?")
        terms.append(Term(key, way, sign, value))
    return Query(tuple(terms), tuple(words))


def _day(value: str, key: str) -> datetime.datetime:
    try:
        return datetime.datetime.fromisoformat(value)
    except ValueError:
        raise BadInput(f"{key}: '{value}' is no day: write 2026-01-31.") from None


def conditions(
    query: Query, takes: sa.Table, readings: sa.Table, relied: sa.Table, units: Mapping[str, Sequence[str]]
) -> list[Any]:
    """The query for the database; `units`: in which each reading that it names is kept. Raises BadInput."""
    made: list[Any] = [takes.c.words.contains(w, autoescape=True) for w in query.words]
    for term in query.terms:
        if term.key in ("since", "before"):
            day = _day(term.value, term.key)
            made.append(takes.c.begun >= day if term.key == "since" else takes.c.begun < day)
        elif term.key in ("sensor", "certificate"):
            column = relied.c.serial if term.key == "sensor" else relied.c.certificate
            sign = "~" if term.sign == "~" else "="
            there = takes.c.id.in_(sa.select(relied.c.take_id).where(_text(column, sign, term)))
            made.append(~there if term.sign == "!=" else there)
        elif term.key in FIELDS:
            if term.key != "within":
                made.append(_text(takes.c[term.key], term.sign, term))
        else:
            made.append(_read_so(term, takes, readings, units[term.key]))
    return made


def _read_so(term: Term, takes: sa.Table, readings: sa.Table, units: Sequence[str]) -> Any:
    """That a take has such a reading."""
    if term.way:  # almost every take has one: looked for where it belongs
        return sa.exists().where(readings.c.take_id == takes.c.id, readings.c.key == term.key)
    # A set that is made once: looked for in each take by itself, a hundred thousand of them took seconds.
    held = sa.select(readings.c.take_id).where(readings.c.key == term.key, _value(readings, term, units))
    return takes.c.id.in_(held)


def _text(column: Any, sign: str, term: Term) -> Any:
    if sign == "~":
        return sa.func.lower(column).contains(term.value.lower(), autoescape=True)
    same = sa.func.lower(column) == term.value.lower()
    return ~same if sign == "!=" else same


def _value(readings: sa.Table, term: Term, units: Sequence[str]) -> Any:
    """The comparison in every unit that the reading is kept in."""
    wanted = split(term.value)[1]
    fitting = [u for u in units if not wanted or same_kind(wanted, u or "%")]
    if units and not fitting:
        raise BadInput(f"{term.key}: '{wanted}' is another kind of unit than {', '.join(u or 'none' for u in units)}.")
    signs = {">": "__gt__", "<": "__lt__", ">=": "__ge__", "<=": "__le__", "=": "__eq__", "!=": "__ne__"}
    if term.sign not in signs:
        raise BadInput(f"{term.key}: a reading is compared by =, !=, <, >, <= or >=.")
    either = [
        sa.and_(readings.c.unit == u, getattr(readings.c.value, signs[term.sign])(parse(term.value, u, term.key)))
        for u in fitting
    ]
    return sa.and_(readings.c.valid, sa.or_(*either)) if either else sa.false()
