"""Changing a shaker's course: stretches added, copied, moved, taken away, and their own values typed."""

from __future__ import annotations

import copy
from collections.abc import Callable, Mapping
from typing import Any

from PyQt6.QtCore import QPoint
from PyQt6.QtWidgets import QMenu, QWidget

from ...core.errors import BadInput
from ...lab.editing import shown, typed
from .forms import Field, Sheet

Course = list[dict[str, Any]]
ASK = ("Ask a person", {"ask": "Turn the article to its next axis"})
NEW: dict[str, tuple[tuple[str, dict[str, Any]], ...]] = {
    "sine-sweep": (
        ("Sweep up", {"sweep": "up"}), ("Sweep down", {"sweep": "down"}), ("Sweep up and down", {"sweep": "both"}),
        ("Sweep at −6 dB", {"sweep": "up", "level": "-6 dB"}),
        ("Dwell at a frequency", {"dwell": "100 Hz", "duration": "30 s"}),
        ("Dwell on the resonance", {"follow": "resonance", "duration": "1 min"}), ("Pause", {"pause": "10 s"}), ASK,
    ),
    "random-vibration": (
        ("Random", {"random": True, "duration": "1 min"}),
        ("Random at −6 dB", {"random": True, "duration": "1 min", "level": "-6 dB"}),
        ("Random up a ladder", {"random": True, "duration": "1 min", "ladder": ["-9 dB", "-6 dB", "-3 dB", "0 dB"],
                                "each": "10 s"}),
        ("Pause", {"pause": "10 s"}), ASK,
    ),
    "time-replication": (("The record", {"history": True, "repeats": 1}), ("Pause", {"pause": "10 s"}), ASK),
}  # fmt: skip
"""Stretches that a method's course can get, in words"""
USUAL: dict[str, Course] = {
    "sine-sweep": [{"sweep": "up"}], "random-vibration": [{"random": True}], "time-replication": [{"history": True}],
}  # fmt: skip
"""What runs where a plan says nothing of its course"""
FIELDS: dict[str, tuple[tuple[str, str, str], ...]] = {
    "sweep": (("sweep", "Direction", "up, down or both"), ("start", "From", "the profile's where empty"),
              ("stop", "To", ""), ("rate", "Rate", "such as 1 oct/min"), ("duration", "One sweep takes", ""),
              ("sweeps", "Sweeps", ""), ("total", "In all", ""), ("level", "Level", "such as -6 dB")),
    "dwell": (("dwell", "Frequency", ""), ("duration", "For", ""), ("cycles", "or cycles", ""),
              ("level", "Level", "such as -6 dB")),
    "follow": (("follow", "Resonance", "resonance: the largest that was found; or near a frequency"),
               ("channel", "Seen in", "the channel whose phase is held"), ("duration", "For", ""),
               ("cycles", "or cycles", ""), ("level", "Level", "such as -6 dB")),
    "random": (("duration", "For", ""), ("level", "Level", "such as -6 dB"),
               ("ladder", "Ladder", "such as [-9 dB, -6 dB, -3 dB, 0 dB]"), ("each", "Each rung", "such as 10 s")),
    "history": (("repeats", "Repeats", ""), ("level", "Level", "such as -6 dB")),
    "pause": (("pause", "For", ""),),
    "ask": (("ask", "What is to be done", "the drive rests until it is said to be done"),),
}  # fmt: skip
"""What can be typed of a stretch, by what it is: key, name, hint"""


def course_in(settings: Mapping[str, Any], method: str) -> Course:
    """The course as a plan's plain settings have it, or what runs where they say nothing."""
    held = settings.get("course") or USUAL[method]
    return [dict(s) for s in ([held] if isinstance(held, dict) else held)]


def kind_of(step: Mapping[str, Any]) -> str:
    return next(k for k in FIELDS if step.get(k) not in (None, False, "off"))


def added(course: Course, step: Mapping[str, Any], at: int | None = None) -> Course:
    """With a stretch more, behind number `at`; at the end where none is given."""
    made = copy.deepcopy(course)
    made.insert(len(made) if at is None else at + 1, dict(step))
    return made


def moved(course: Course, at: int, by: int) -> Course:
    """With a stretch earlier or later. Raises BadInput at the ends."""
    made = copy.deepcopy(course)
    if not 0 <= at + by < len(made):
        raise BadInput("It stands at the end of the course already.")
    made.insert(at + by, made.pop(at))
    return made


def without(course: Course, at: int) -> Course:
    """With a stretch less. Raises BadInput where none would be left."""
    if len(course) == 1:
        raise BadInput("A course needs a stretch: add another one first.")
    return [*course[:at], *course[at + 1 :]]


class StretchSheet(Sheet):
    """One stretch's own values, typed; what was made is `course`."""

    def __init__(self, parent: QWidget, course: Course, at: int) -> None:
        self.before, self.at = course, at
        self.course: Course | None = None
        held, kind = course[at], kind_of(course[at])
        fields = [Field(key, name, shown(held.get(key)), hint) for key, name, hint in FIELDS[kind]]
        super().__init__(parent, f"Stretch {at + 1}", "", fields, "Change it", self._take)

    def _take(self, held: Mapping[str, str]) -> None:
        made = copy.deepcopy(self.before)
        step = made[self.at]
        for key, text in held.items():
            if not text.strip():
                step.pop(key, None)
            elif text.strip() != shown(step.get(key)):
                step[key] = typed(text)
        if not any(k in step for k in FIELDS):
            raise BadInput("This stretch would be nothing: say what it does, or take it away.")
        self.course = made


def new_menu(parent: QWidget, method: str, take: Callable[[dict[str, Any]], object]) -> QMenu:
    """The stretches that can be added."""
    menu = QMenu(parent)
    for text, step in NEW[method]:
        menu.addAction(text, lambda s=step: take(s))
    return menu


def stretch_menu(parent: QWidget, at: QPoint, acts: list[tuple[str, Callable[[], object]]]) -> QMenu:
    """What can be done with one stretch; shown at a point of the screen, without waiting."""
    menu = QMenu(parent)
    for text, act in acts:
        menu.addAction(text, act)
    menu.popup(at)
    return menu
