"""The Lookout's two words: one to look, a stronger one to stop a run or leave a note; and who tried others."""

from __future__ import annotations

import collections
import json
import secrets
import threading
import time
from dataclasses import dataclass
from pathlib import Path

from ..engine.notes import private, put_note, runs_folder

WRONG = 10
"""Wrong words from one address within `SPAN`, after which it is not heard at all"""
SPAN = 60.0
"""s"""
ADDRESSES = 4096
"""Addresses that are remembered at most"""
LOG = 1_000_000
"""bytes of the log, after which it begins anew and the last one is kept"""


def lookout_folder() -> Path:
    """Where the Lookout keeps its words, its certificate and its log: this user's alone."""
    place = runs_folder() / "lookout"
    private(place)
    return place


@dataclass(frozen=True)
class Keys:
    """What opens the Lookout."""

    look: str
    act: str


def keys(anew: bool = False) -> Keys:
    """The words in force; made where there are none, or wanted anew."""
    place = lookout_folder() / "keys.json"
    if not anew:
        try:
            held = json.loads(place.read_text(encoding="utf-8"))
            return Keys(str(held["look"]), str(held["act"]))
        except (OSError, ValueError, KeyError, TypeError):
            pass
    # The second is typed by hand, so it is shorter, of signs that can't be taken for one another: 60 bits, and ten
    # tries a minute.
    signs = "abcdefghijkmnpqrstuvwxyz23456789"
    made = Keys(secrets.token_urlsafe(24), "-".join("".join(secrets.choice(signs) for _ in range(4)) for _ in range(3)))
    put_note(place, {"look": made.look, "act": made.act})
    return made


def same(given: str, wanted: str) -> bool:
    """Whether two words are the same, in a time that tells nothing of them."""
    return secrets.compare_digest(given.encode(), wanted.encode())


class Tries:
    """Wrong words by address. An address that gave too many is not heard for a while, whatever it says."""

    def __init__(self) -> None:
        self.held: collections.OrderedDict[str, collections.deque[float]] = collections.OrderedDict()
        self.lock = threading.Lock()

    def shut(self, address: str, now: float | None = None) -> bool:
        """Whether an address is not heard now."""
        now = time.monotonic() if now is None else now
        with self.lock:
            tried = self.held.get(address)
            return tried is not None and len([t for t in tried if now - t < SPAN]) >= WRONG

    def wrong(self, address: str, now: float | None = None) -> None:
        """It gave a wrong word."""
        now = time.monotonic() if now is None else now
        with self.lock:
            tried = self.held.setdefault(address, collections.deque(maxlen=WRONG))
            tried.append(now)
            self.held.move_to_end(address)
            while len(self.held) > ADDRESSES:
                self.held.popitem(last=False)


def log(line: str) -> None:
    """Write down who came and what was refused or ordered; never a word that was given."""
    place = lookout_folder() / "lookout.log"
    if place.exists() and place.stat().st_size > LOG:
        place.replace(place.with_suffix(".log.1"))
    told = "".join(c if c.isprintable() else "?" for c in line)[:500]
    with place.open("a", encoding="utf-8") as file:
        file.write(f"{time.strftime('%Y-%m-%d %H:%M:%S')} {told}\n")
