"""Many takes read anew: findings beside the old ones, never over them; what turned is told, what fails is listed."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ProcessPoolExecutor, as_completed
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass, field
from multiprocessing import get_context
from pathlib import Path
from typing import Any

from ..contracts.finding import Finding
from ..core.errors import BadInput
from ..lab.place import Lab
from ..lab.takes import Take
from .evaluating import evaluate_take

FOLDER = "rereads"
TRIES = 3
"""Times that a take may take its worker down before it is given up"""


@dataclass(frozen=True)
class Change:
    """What one take's new finding says against the one that counts."""

    take: str
    before: str
    after: str
    """Verdicts"""
    readings: tuple[tuple[str, float | None, float | None, str], ...]
    """Key, value before, value now, unit, of those that differ"""

    @property
    def turned(self) -> bool:
        return self.before != self.after


@dataclass
class Outcome:
    """Of one pass over many takes."""

    changes: list[Change] = field(default_factory=list)
    failed: dict[str, str] = field(default_factory=dict)
    earlier: int = 0
    """Takes that an earlier pass with the same settings had read"""


def compared(take: str, before: Finding | None, after: Finding) -> Change:
    held = {r.key: r for r in before.readings} if before else {}
    rows = [
        (r.key, held[r.key].value if r.key in held else None, r.value, r.unit)
        for r in after.readings
        if r.key not in held or held[r.key].value != r.value
    ]
    return Change(take, before.verdict if before else "none", after.verdict, tuple(rows))


def read_one(folder: str, settings: Mapping[str, Any]) -> Change:
    """One take: its new finding is kept, and what counted still counts. Raises BadInput."""
    take = Take(Path(folder))
    before, counted = take.finding(), take.counted()
    made = evaluate_take(take, settings)
    take.keep(made)
    if counted is not None:
        take.choose(counted)
    return compared(folder, before, made)


def _guarded(folder: str, settings: Mapping[str, Any]) -> tuple[str, Change | None, str]:
    try:
        return folder, read_one(folder, settings), ""
    except BadInput as problem:
        return folder, None, str(problem)
    except Exception as problem:  # one take that trips the program must not keep the others from being read
        return folder, None, f"a fault of the program ({type(problem).__name__}: {problem})"


def reread_all(
    lab: Lab, takes: Sequence[Take], settings: Mapping[str, Any], workers: int = 1,
    tell: Callable[[int, int], None] = lambda done, all_: None, scheduler: str | None = None,
) -> Outcome:  # fmt: skip
    """Read takes anew with some settings changed. What was read already with the same settings is not read again: a
    pass that was stopped goes on. Raises BadInput."""
    place = _journal(lab, settings)
    done = _done(place)
    outcome = Outcome()
    folders = [str(t.folder) for t in takes]
    left = [f for f in folders if f not in done]
    outcome.earlier = len(folders) - len(left)
    for f in folders:
        if f in done:
            outcome.changes.append(done[f])
    with place.open("a", encoding="utf-8") as file:
        for count, (folder, change, why) in enumerate(_read_by(left, settings, workers, scheduler), start=1):
            if change is None:
                outcome.failed[folder] = why
            else:
                outcome.changes.append(change)
                file.write(json.dumps({**vars(change)}, ensure_ascii=False) + "\n")
                file.flush()
            tell(count, len(left))
    return outcome


def _read_by(
    left: Sequence[str], settings: Mapping[str, Any], workers: int, scheduler: str | None
) -> Iterator[tuple[str, Change | None, str]]:
    if scheduler is not None:
        yield from _by_scheduler(left, settings, scheduler)
    elif workers < 2:
        for folder in left:
            yield _guarded(folder, settings)
    else:
        yield from _by_workers(left, settings, workers)


def _by_workers(
    left: Sequence[str], settings: Mapping[str, Any], workers: int
) -> Iterator[tuple[str, Change | None, str]]:
    """Processes of our own; what a killed one held is read by another."""
    tries = dict.fromkeys(left, 0)
    waiting = list(left)
    while waiting:
        broken = False
        with ProcessPoolExecutor(workers, mp_context=get_context("spawn")) as pool:
            held = {pool.submit(_guarded, f, settings): f for f in waiting}
            for future in as_completed(held):
                try:
                    made = future.result()
                except BrokenProcessPool:
                    broken = True
                    continue
                waiting.remove(held[future])
                yield made
        if not broken:
            return
        for folder in list(waiting):
            tries[folder] += 1
            if tries[folder] >= TRIES:
                waiting.remove(folder)
                yield folder, None, "its worker was ended three times"


def _by_scheduler(
    left: Sequence[str], settings: Mapping[str, Any], address: str
) -> Iterator[tuple[str, Change | None, str]]:
    try:
        from distributed import Client
        from distributed import as_completed as finished
    except ImportError:
        raise BadInput("--scheduler: the package 'distributed' is not installed; else use --workers.") from None
    try:
        client = Client(address, timeout="10s")
    except (OSError, ValueError) as problem:
        raise BadInput(f"--scheduler {address}: nobody answers there ({problem}).") from None
    with client:
        futures = client.map(_guarded, left, settings=dict(settings), pure=False, retries=TRIES)
        for future in finished(futures):
            yield future.result()


def _journal(lab: Lab, settings: Mapping[str, Any]) -> Path:
    key = hashlib.sha256(json.dumps(settings, sort_keys=True, default=str).encode()).hexdigest()[:12]
    folder = lab.folder / FOLDER
    folder.mkdir(exist_ok=True)
    return folder / f"{key}.jsonl"


def _done(place: Path) -> dict[str, Change]:
    made = {}
    if place.exists():
        for line in place.read_text(encoding="utf-8").splitlines():
            try:
                held = json.loads(line)
            except json.JSONDecodeError:
                continue  # a line that a kill cut short: that take is read once more
            rows = tuple(tuple(r) for r in held["readings"])
            made[held["take"]] = Change(held["take"], held["before"], held["after"], rows)
    return made
