"""Mails of the Lookout while a run goes on: it was stopped, it failed, or its bench is no longer heard."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterable
from email.message import EmailMessage
from pathlib import Path

from ..core.errors import BadInput
from ..folio.afterwards import headed, send
from ..lab.place import Lab, lab_of
from .keys import log
from .watching import ENDED, Seen, take_name

SILENT = 30.0
"""s without an answer after which somebody is woken: longer than a machine that pauses"""
AGAIN = (60.0, 300.0, 900.0)
"""s after which a mail that the server did not take is tried again"""


def worth(seen: Seen, now: float) -> tuple[str, str] | None:
    """What is worth waking somebody for, in a word and a sentence; None where nothing is."""
    shown = seen.picture
    if not shown:
        return None
    title, state = str(shown["title"]), str(shown["state"])
    if shown["tripped"]:
        return "stopped", f"{title}: {shown['message'] or 'it was stopped'}."
    if state == "failed":
        return "failed", f"{title}: {shown['message'] or 'it failed'}."
    if state not in ENDED and (seen.gone or now - seen.heard > SILENT):
        since = time.strftime("%Y-%m-%d %H:%M:%S", time.localtime(seen.heard))
        return "not heard", f"{title}: nothing was heard of it since {since}."
    return None


class Warner:
    """Writes once of each thing, to whom the lab names, where it says `warn`; a server that is away is tried again."""

    def __init__(
        self, hand_over: Callable[[Lab, EmailMessage], None] | None = None, wait: Iterable[float] = AGAIN
    ) -> None:
        self.told: set[tuple[int, str]] = set()
        self.hand_over = hand_over or post
        self.wait = tuple(wait)

    def look(self, seen: Iterable[tuple[int, Seen]], now: float | None = None) -> None:
        """What is new among all runs; mails go in threads of their own, so that nobody waits for a server."""
        now = time.time() if now is None else now
        for pid, one in list(seen):
            found = worth(one, now)
            if found is None or (pid, found[0]) in self.told:
                continue
            self.told.add((pid, found[0]))
            threading.Thread(target=self._write, args=(one, *found), daemon=True).start()

    def _write(self, seen: Seen, word: str, sentence: str) -> None:
        take = take_name(seen.address.take)
        try:
            lab = lab_of(Path(seen.address.take))
        except BadInput as problem:
            log(f"no warning of {take}: {problem}")
            return
        facts = lab.facts if lab is not None else None
        if lab is None or facts is None or facts.mail is None or facts.after is None or not facts.after.warn:
            return
        made = headed(facts.mail, facts.after.to, f"{word.upper()}: {seen.picture['title']}")
        last = [str(e) for e in seen.picture.get("events", [])][-5:]
        made.set_content("\n".join([sentence, "", f"Take {take}.", *last]) + "\n")
        for pause in (*self.wait, None):
            try:
                self.hand_over(lab, made)
                log(f"warned of {take}: {word}")
                return
            except BadInput as problem:
                log(f"a warning of {take} could not be mailed: {problem}")
            if pause is not None:
                time.sleep(pause)


def post(lab: Lab, message: EmailMessage) -> None:
    """Hand a mail to the lab's server. Raises BadInput."""
    assert lab.facts.mail is not None
    send(lab.facts.mail, message, lab.folder)
