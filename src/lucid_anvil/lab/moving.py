"""A ledger copied into another database, compared row by row, and only then used."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import sqlalchemy as sa

from ..core.errors import BadInput
from .editing import put_in
from .ledger import Ledger, metadata
from .place import Lab


def move_ledger(lab: Lab, url: str) -> dict[str, int]:
    """Copy a lab's ledger to a new database, see that every row is the same, and let lab.yaml name it; the old one
    stays as it was. Rows by table. Raises BadInput; then the lab still names the old one."""
    source = lab.ledger()
    try:
        there = Ledger(_absolute(lab, url))
    except BaseException:
        source.close()
        raise
    try:
        if there.engine.url == source.engine.url:
            raise BadInput(f"{there.place.render_as_string()}: the ledger is there already.")
        counts = _copied(source, there)
    finally:
        source.close()
        there.close()
    put_in(lab.folder / "lab.yaml", ("ledger",), url)
    return counts


def _absolute(lab: Lab, url: str) -> str:
    if url.startswith("sqlite:///") and not url.startswith("sqlite:////"):
        return f"sqlite:///{lab.folder / url.removeprefix('sqlite:///')}"
    return url


def _copied(source: Ledger, there: Ledger) -> dict[str, int]:
    counts = {}
    with source._connect() as read, there._begin() as write:
        for table in metadata.sorted_tables:
            if write.execute(sa.select(sa.func.count()).select_from(table)).scalar():
                raise BadInput(f"{there.place.render_as_string()}: it holds rows already: choose an empty database.")
            rows = [dict(r) for r in read.execute(sa.select(table)).mappings()]
            for a in range(0, len(rows), 500):
                write.execute(table.insert(), rows[a : a + 500])
            counts[table.name] = len(rows)
            key = next(iter(table.primary_key.columns))
            if there.place.get_backend_name() == "postgresql" and isinstance(key.type, sa.Integer) and rows:
                # Its numbers go on where they were.
                top = max(int(r[key.name]) for r in rows)
                write.execute(sa.text("select setval(pg_get_serial_sequence(:t, :c), :n)"),
                              {"t": table.name, "c": key.name, "n": top})  # fmt: skip
            held = [dict(r) for r in write.execute(sa.select(table)).mappings()]
            if _sorted(held, key.name) != _sorted(rows, key.name):
                raise BadInput(f"{table.name}: what came over is not the same: the old ledger is still used.")
    return counts


def _sorted(rows: list[dict[str, Any]], key: str) -> list[Mapping[str, Any]]:
    return sorted(rows, key=lambda r: str(r[key]))
