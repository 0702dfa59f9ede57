"""What a lab wants done after each take, typed in the window; and what became of it, said in the window."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from pathlib import Path

from PyQt6.QtCore import QObject, QProcess, QTimer, pyqtSignal
from PyQt6.QtWidgets import QApplication, QLineEdit, QWidget

from ...contracts.settings import check
from ...core.errors import BadInput
from ...lab.afterrules import FORMATS, After, Mail, as_rules, keep_password
from ...lab.editing import sync
from ...lab.place import Lab, LabFacts, open_lab
from ...lab.takes import Take
from ...lab.textfiles import load_yaml
from ..parts.forms import Field, Sheet

ASIDE = "Typed once, kept in the keyring; empty leaves it as it is"
MAIL = ("warn", "server", "port", "tls", "sender", "user", "password", "authority", "trial")
TRIALS = ("no", "yes")
LOOK = 500
"""ms between two looks at a take"""
ENOUGH = 240
"""looks after which the window no longer waits for papers and mail"""


class AfterSheet(Sheet):
    """Folder, name and formats of papers, who gets a mail, by which server. `made` is the lab as it is then."""

    def __init__(self, parent: QWidget, lab: Lab) -> None:
        self.lab, self.trial = lab, False
        self.made: Lab | None = None
        rule, mail = lab.facts.after, lab.facts.mail
        fields = [
            Field("folder", "Papers into", rule.folder if rule else "", "a folder, from the lab's; empty: nowhere"),
            Field("name", "Named", (rule or After()).name),
            Field("formats", "As", ", ".join(rule.formats) if rule else "pdf", ", ".join(FORMATS)),
            Field("to", "Mail to", ", ".join(rule.to) if rule else "", "addresses; empty: nobody"),
            Field("warn", "While it runs", "yes" if rule and rule.warn else "no", choices=TRIALS),
            Field("server", "Mail server", mail.server if mail else "", "such as mail.example.org"),
            Field("port", "Port", str(mail.port if mail else 465)),
            Field("tls", "TLS", mail.tls if mail else "", choices=("from the start", "starttls")),
            Field("sender", "Sender", mail.sender if mail else "", "such as bench@example.org"),
            Field("user", "User", mail.user if mail else "", "empty: it asks for no password"),
            Field("password", "Password", "", ASIDE),
            Field("authority", "Its authority", mail.authority if mail else "", "a file, where it is the house's own"),
            Field("trial", "Trial mail now", choices=TRIALS),
        ]
        text = (
            "When a run is over it is read by itself, whether a window is open or not; then its papers are saved and "
            "mailed. While it runs: a mail when it is stopped or no longer heard, as long as the Lookout is on. A name "
            "is made of {date} {time} {job} {title} {article} {serial} {method} {take} {verdict}."
        )
        super().__init__(parent, "After each take", text, fields, "Keep it", self._take)
        self.setProperty("help", "unattended.md#After each take")
        hidden = self.fields.boxes["password"]
        assert isinstance(hidden, QLineEdit)
        hidden.setEchoMode(QLineEdit.EchoMode.Password)
        to = self.fields.boxes["to"]
        assert isinstance(to, QLineEdit)
        to.textChanged.connect(self._reveal)
        self._reveal(to.text())

    def _reveal(self, to: str) -> None:
        """Of the mail only what is needed: nothing, as long as nobody gets one."""
        for key in MAIL:
            self.fields.reveal(key, bool(to.strip() or self.lab.facts.mail))
        self.adjustSize()

    def _take(self, held: Mapping[str, str]) -> None:
        after, mail = as_rules(held)
        place = self.lab.folder / "lab.yaml"
        facts = {k: v for k, v in load_yaml(place).items() if k not in ("after", "mail")}
        facts |= {k: v for k, v in (("after", after), ("mail", mail)) if v}
        check(LabFacts, facts, "After each take")
        self.trial = held["trial"] == "yes"
        if self.trial and not after.get("to"):
            raise BadInput("A trial mail needs somebody to write to: fill in 'Mail to'.")
        if held["password"]:
            if not mail.get("user"):
                raise BadInput("A password belongs to a user: fill in User.")
            keep_password(check(Mail, mail, "Mail server"), held["password"])
        sync(place, facts)
        self.made = open_lab(self.lab.folder)


def say_in_window(text: str) -> None:
    """Say it in the window that is there now: another lab's, or this one's anew, may have come in its place."""
    for window in QApplication.topLevelWidgets():
        if window.isVisible() and hasattr(window, "say"):
            window.say(text)


class Trial(QObject):
    """A trial mail, sent by a process of its own: the window stays awake."""

    said = pyqtSignal(str)

    def __init__(self, lab: Path) -> None:
        super().__init__(QApplication.instance())
        self.process = QProcess(self)
        self.process.setProcessChannelMode(QProcess.ProcessChannelMode.MergedChannels)
        self.process.finished.connect(self._done)
        self.process.start(sys.executable, ["-m", "lucid_anvil.cli", "after", "--trial", "--lab", str(lab)])

    def _done(self) -> None:
        self.said.emit(" ".join(bytes(self.process.readAll().data()).decode(errors="replace").split()))
        self.deleteLater()


class AfterWatch(QObject):
    """Waits for what a finished take says of its papers and mail, and tells it once."""

    said = pyqtSignal(str)

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self.take: Take | None = None
        self.looks = 0
        self.timer = QTimer(self)
        self.timer.setInterval(LOOK)
        self.timer.timeout.connect(self._look)

    def wait_for(self, lab: Lab, take: Take) -> None:
        """Begin to look, where the lab wants something done."""
        if lab.wants_after(take.folder):
            self.take, self.looks = take, 0
            self.timer.start()

    def _look(self) -> None:
        self.looks += 1
        assert self.take is not None
        told = next((e for e in self.take.events() if e["kind"] == "after"), None)
        if told is None and self.looks < ENOUGH:
            return
        self.timer.stop()
        if told is None:
            self.said.emit(
                f"Nothing is heard of this take's papers and mail: 'lucid-anvil after {self.take.folder}' does them."
            )
            return
        self.said.emit(told["said"])
