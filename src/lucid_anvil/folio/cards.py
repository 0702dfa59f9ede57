"""What stands on a paper's cards: which ones a take brings, and the contents of each."""

from __future__ import annotations

import base64
import datetime
import io
import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np

from ..contracts import registry
from ..contracts.finding import Finding
from ..contracts.method import Axis, Method
from ..core.errors import BadInput
from ..core.figures import fitting, limit_text, significant
from ..core.quantities import round_to_doubt
from ..engine.evaluating import unfinished
from ..lab.ledger import Entry
from ..lab.papers import Card, Mark, Paper, from_lab, in_lab
from ..lab.photos import article_of, photos_at, photos_in
from ..lab.place import Lab
from ..lab.plans import Plan
from ..lab.specimens import series, words
from ..lab.takes import Take, from_file, open_take
from .certificate import RULES, VERDICT_WORDS, rig_name
from .chain import found_wrong
from .plots import view_svg
from .testreport import INCOMPLETE, reading_row, sheet_table

FEW = 4
"""Plots that a new paper shows of a take; the others are left out at first"""
ROWS = 400
"""Rows of a raw appendix at most"""
FINEST = 5e-5
"""Share of a value that a table of several takes does not go below"""
WIDEST = 1600
"""px of a photo on paper at most"""


@dataclass(frozen=True)
class Reported:
    """A take that a paper reports, with its counted finding as papers may state it."""

    take: Take
    finding: Finding
    method: Method
    plan: Plan
    name: str
    """What it is called on the paper"""

    @property
    def verdict_words(self) -> str:
        own = VERDICT_WORDS if self.finding.complete else INCOMPLETE
        return own.get(self.finding.verdict, VERDICT_WORDS[self.finding.verdict])


def reported(lab: Lab, paper: Paper) -> dict[str, Reported]:
    """The takes of a paper by the path that it holds. Raises BadInput where one is gone or nothing was read of it."""
    return {held: report_of(in_lab(lab, held)) for held in paper.takes}


def report_of(folder: Path) -> Reported:
    """One take with its counted finding. Raises BadInput."""
    if not folder.is_dir():
        raise BadInput(f"{folder}: this take is gone: put it back, or take it off the paper.")
    take = open_take(folder)
    counted = take.counted()
    if counted is None:
        raise BadInput(f"{folder}: it has no finding yet: 'lucid-anvil settle {folder}' reads it.")
    finding = from_file(counted).lacking(unfinished(take))
    plan = take.plan()
    parts = [plan.title] if plan.article in plan.title else [plan.title, plan.article]
    name = ", ".join(part for part in parts if part) or take.name
    return Reported(take, finding, registry.get(finding.method), plan, name)


# --- which cards ---------------------------------------------------------------------------------------------------


def first_cards(lab: Lab, one: Reported) -> list[Card]:
    """The cards that a take brings to a new paper, in their usual order."""
    held, detail = from_lab(lab, one.take.folder), one.finding.detail or {}
    made = []
    if "sheet" in detail:
        made.append(Card(kind="sheet", take=held))
    elif one.finding.readings:
        made.append(Card(kind="readings", take=held))
    if (detail.get("table") or {}).get("rows"):
        made.append(Card(kind="table", take=held))
    views = [v for v in one.method.views if drawn(one.finding, v)]
    for i, view in enumerate(views):
        marks = notes_on(one, view)
        made.append(Card(kind="curves", take=held, view=view.key, title=view.title, out=i >= FEW, marks=marks,
                         joined=i % 2 == 0))  # fmt: skip
    made.append(Card(kind="conditions", take=held))
    folders = (article_of(lab, one.take.folder.parent), one.take.folder)  # the article's, then its own
    for i, place in enumerate(p for folder in folders if folder for p in photos_in(photos_at(folder))):
        made.append(Card(kind="photo", take=held, file=from_lab(lab, place), title=f"Photo {i + 1}"))
    if one.plan.sensors:
        made.append(Card(kind="sensors", take=held, joined=True))
    if detail.get("budgets"):
        made.append(Card(kind="budget", take=held, out=True))
    made.append(Card(kind="raw", take=held, out=True))
    return made


def drawn(finding: Finding, view: Axis) -> bool:
    """Whether a finding has anything that a plot shows."""
    return any(view.shows(c.key) and any(y is not None for y in c.y) for c in finding.curves)


def notes_on(one: Reported, view: Axis) -> list[Mark]:
    """What a person noted while it ran, in the record's own time, where the plot is one over time."""
    if view.x_label not in ("s", "h", "min") or view.x_log:
        return []
    return [Mark(at=float(e["t"]), text=str(e["text"])) for e in one.take.events() if e["kind"] == "note"][:40]


# --- what stands on them -------------------------------------------------------------------------------------------


def contents(
    card: Card, one: Reported | None, lab: Lab, all_of: Sequence[Reported], result: Sequence[Mapping[str, Any]],
    width: float,
) -> dict[str, Any]:  # fmt: skip
    """What the template is given for one card of a paper on the takes `all_of`; `result`: these in a line each;
    `width` [inch] is what a plot may take. Raises BadInput."""
    made: dict[str, Any] = {"kind": card.kind, "title": card.title, "text": card.text, "of": one.name if one else ""}
    if card.kind == "summary":
        return {**made, "rows": list(result)}
    if card.kind == "series":
        return {**made, **series_table(all_of)}
    if card.kind in ("cover", "text"):
        return made
    if card.kind == "photo":
        return {**made, "picture": photo(in_lab(lab, card.file))}
    if card.kind == "attached":
        return {**made, "file": Path(card.file).name}
    if one is None:
        raise BadInput(f"A card '{card.kind}' names no take of this paper ('{card.take}'): take it off, or name one.")
    return {**made, **OF_TAKES[card.kind](card, one, width)}


def series_table(all_of: Sequence[Reported]) -> dict[str, Any]:
    """Takes of one method beside each other, with mean, spread and what lies off. Raises BadInput."""
    names = [r.plan.article or r.name for r in all_of]
    if len(set(names)) < len(names):
        names = [f"{n}, {r.take.name}" for n, r in zip(names, all_of, strict=True)]
    if len(set(names)) < len(names):
        names = [str(i) for i in range(1, len(names) + 1)]
    made = series([(n, r.finding) for n, r in zip(names, all_of, strict=True)])
    rows = []
    for row in made.rows:
        known = [v for v in row.values if v is not None]
        scale, unit = fitting(max(known, key=abs), row.unit)
        of_all, without = row.of_all, row.without
        s = of_all.standard_deviation if of_all is not None else None
        s = s if s and of_all and s > 1e-9 * abs(of_all.mean) else None
        cells = []
        for i, v in enumerate(row.values):
            u = row.uncertainties[i]
            text = "–" if v is None else round_to_doubt(v * scale, max(u, FINEST * abs(v)) * scale if u else None)
            cells.append({"name": names[i], "text": text, "verdict": row.verdicts[i]})
        rows.append({
            "label": row.label, "unit": unit, "limits": limit_text(row.low, row.high, row.unit), "cells": cells,
            "mean": significant(of_all.mean * scale, 4) if of_all else "–",
            "s": significant(s * scale, 2) if s else "–",
            "share": significant(100 * s / abs(of_all.mean), 2) if s and of_all and of_all.mean else "–",
            "off": words(row, names), "without": significant(without.mean * scale, 4) if without else "",
        })  # fmt: skip
    return {"names": names, "rows": rows}


def summary_row(one: Reported, known: Mapping[str, Entry]) -> dict[str, Any]:
    """A take in one line: when, what, verdict, what is beyond its limit or can't be told, and what was found out since.
    `known`: the ledger's entries by serial."""
    begin = next((e for e in one.take.events() if e["kind"] == "begin"), {})
    when = datetime.datetime.fromtimestamp(begin["wall"]) if "wall" in begin else None
    since = [d for d in (one.take.doubt(), *found_wrong(one.take, known, one.plan)) if d]
    beyond = [r.label for r in one.finding.readings if r.verdict in ("outside", "open")]
    return {
        "when": when.strftime("%Y-%m-%d %H:%M") if when else "–", "what": one.name, "method": one.method.title,
        "verdict": one.finding.verdict, "words": one.verdict_words, "beyond": beyond[:3],
        "missing": list(one.finding.missing), "doubts": since,
    }  # fmt: skip


def _readings(_card: Card, one: Reported, _width: float) -> dict[str, Any]:
    return {"readings": [reading_row(r) for r in one.finding.readings], **_verdict(one)}


def _sheet(_card: Card, one: Reported, _width: float) -> dict[str, Any]:
    table = sheet_table(one.finding)
    if table is None:
        raise BadInput(f"{one.take.folder}: it holds no sheet any more: take that card off.")
    return {"sheet": table, **_verdict(one)}


def _verdict(one: Reported) -> dict[str, Any]:
    return {"verdict": one.finding.verdict, "words": one.verdict_words, "missing": list(one.finding.missing),
            "rule": RULES[one.plan.step.settings.get("decision", "guarded")]}  # fmt: skip


def _table(_card: Card, one: Reported, _width: float) -> dict[str, Any]:
    held = (one.finding.detail or {}).get("table") or {"heads": [], "rows": []}
    heads = [h if isinstance(h, (list, tuple)) else (h, "") for h in held["heads"]]
    rows = [["–" if c is None else f"{c:.6g}" if isinstance(c, float) else str(c) for c in r] for r in held["rows"]]
    return {"heads": heads, "rows": rows}


def _curves(card: Card, one: Reported, width: float) -> dict[str, Any]:
    view = next((v for v in one.method.views if v.key == card.view), None)
    counted = one.take.counted()
    assert counted is not None
    if view is None:
        known = ", ".join(v.key for v in one.method.views)
        raise BadInput(f"{one.take.folder}: there is no plot '{card.view}' of it: it has {known}.")
    marks = tuple((m.at, m.text) for m in sorted(card.marks, key=lambda m: m.at))
    picture = _picture(str(counted), counted.stat().st_mtime_ns, one.finding.method, card.view, width, card.x, card.y,
                       tuple(at for at, _t in marks))  # fmt: skip
    if picture is None:
        raise BadInput(f"{one.take.folder}: its finding has nothing of '{view.title}' any more: take that card off.")
    return {"title": card.title or view.title, "picture": picture, "marks": [t for _at, t in marks]}


@lru_cache(64)
def _picture(
    file: str, _changed: int, method: str, key: str, width: float, x: tuple[float, float] | None,
    y: tuple[float, float] | None, marks: tuple[float, ...],
) -> str | None:  # fmt: skip
    view = next(v for v in registry.get(method).views if v.key == key)
    return view_svg(from_file(Path(file)), view, width, 0.55 * width, x_range=x, y_range=y, marks=marks)


def _conditions(_card: Card, one: Reported, _width: float) -> dict[str, Any]:
    events, plan = one.take.events(), one.plan
    begin: dict[str, Any] = next((e for e in events if e["kind"] == "begin"), {})
    end: dict[str, Any] = next((e for e in reversed(events) if e["kind"] == "end"), {})
    when = datetime.datetime.fromtimestamp(begin["wall"]) if "wall" in begin else None
    doubt = one.take.doubt()
    cut = None if one.take.status() == "done" else one.take.reason()
    return {
        "plan": plan, "take": one.take.name, "method": one.method.title,
        "tested": when.strftime("%Y-%m-%d %H:%M") if when else "–",
        "duration": f"{float(end['t']):.0f} s" if "t" in end else "–",
        "temperature": begin.get("temperature"), "humidity": begin.get("humidity"), "bench": rig_name(one.take),
        "checks": [c for c in begin.get("checks", []) if c.get("by")],
        "said": [(float(e["t"]), str(e["text"])) for e in events if e["kind"] == "note"],
        "notes": [*([f"Doubtful: {doubt}."] if doubt else []), *([f"Cut: {cut}."] if cut else []), *one.finding.notes],
    }  # fmt: skip


def _sensors(_card: Card, one: Reported, _width: float) -> dict[str, Any]:
    return {"sensors": [{"role": role, "record": s} for role, s in one.plan.sensors.items()]}


def _budget(card: Card, one: Reported, _width: float) -> dict[str, Any]:
    budgets = (one.finding.detail or {}).get("budgets") or []
    if not budgets:
        raise BadInput(f"{one.take.folder}: it holds no budget any more: take that card off.")
    if card.frequency is None:
        chosen = max(budgets, key=lambda b: b["expanded"])
    else:
        wanted = max(card.frequency, 1e-9)
        chosen = min(budgets, key=lambda b: abs(math.log(b["frequency"] / wanted)))
    entries = [{"label": e["label"], "half_width": f"{significant(e['half_width'], 2)} {e['unit']}".strip(),
                "distribution": e["distribution"], "contribution": significant(e["contribution"], 2),
                "share": f"{100 * e['share']:.1f}"} for e in chosen["entries"]]  # fmt: skip
    return {"frequency": f"{chosen['frequency']:g}", "entries": entries, "combined": significant(chosen["combined"], 2),
            "coverage": f"{chosen['coverage']:.2f}", "expanded": significant(chosen["expanded"], 2)}  # fmt: skip


def _raw(card: Card, one: Reported, _width: float) -> dict[str, Any]:
    """The record's samples at even steps: what was recorded, no means."""
    record = one.take.recording()
    seconds = max((c.duration for c in record.channels), default=0.0)
    every = card.every or max(seconds / 40, 1e-3)
    least = seconds / ROWS
    at = np.arange(0.0, seconds, max(every, least))
    columns = []
    for c in record.channels:
        if c.times is None:
            picked = np.minimum(np.round(at * c.rate).astype(int), c.length - 1)
            columns.append([float(c.samples(i, i + 1)[0]) for i in picked.tolist()])
        else:
            columns.append(c.samples()[np.searchsorted(c.times, at, side="right") - 1].tolist())
    rows = [[f"{t:.6g}", *(f"{col[i]:.5g}" for col in columns)] for i, t in enumerate(at.tolist())]
    return {"heads": [("time", "s"), *((c.label, c.unit) for c in record.channels)], "rows": rows,
            "every": f"{max(every, least):.4g} s", "asked": f"{every:.4g} s" if every < least else ""}  # fmt: skip


OF_TAKES: Mapping[str, Callable[[Card, Reported, float], dict[str, Any]]] = {
    "readings": _readings, "sheet": _sheet, "table": _table, "curves": _curves, "conditions": _conditions,
    "sensors": _sensors, "budget": _budget, "raw": _raw,
}  # fmt: skip


def photo(place: Path) -> str:
    """A photo as a page holds it: turned as its camera held it, no larger than paper shows. Raises BadInput."""
    from PIL import Image, ImageOps, UnidentifiedImageError

    try:
        with Image.open(place) as held:
            shown = ImageOps.exif_transpose(held).convert("RGB")
            shown.thumbnail((WIDEST, WIDEST))
            out = io.BytesIO()
            shown.save(out, "JPEG", quality=88)
    except (OSError, UnidentifiedImageError, Image.DecompressionBombError, ValueError):
        raise BadInput(f"{place}: this photo can't be read: put another in its place, or take the card off.") from None
    return "data:image/jpeg;base64," + base64.b64encode(out.getvalue()).decode()
