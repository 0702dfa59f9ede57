"""The lab and its job in the head of the window: other jobs, a new one, its facts, other labs."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QCompleter, QFileDialog, QLineEdit, QMenu, QPushButton, QWidget

from ...core.errors import BadInput
from ...lab.beginning import lately
from ...lab.jobs import Job, begin_job, change_job, close_job, customers, job_of, jobs, open_job
from ...lab.place import Lab, open_lab
from ..bench.after_sheet import AfterSheet, Trial, say_in_window
from ..parts.forms import Field, Sheet


class JobSheet(Sheet):
    """A new job, or the facts of one. What the lab is then is `made`."""

    def __init__(self, parent: QWidget, lab: Lab, job: Job | None = None) -> None:
        self.lab, self.job = lab, job
        self.made: Lab | None = None
        known = dict(customers(lab))
        held = job or Job(job="")
        more = "\n".join(f"{k}: {v}" for k, v in held.fields.items())
        fields = [
            *([] if job else [Field("job", "Number", hint="such as 0413: its folder is called so")]),
            Field("job_title", "Title", held.job_title, "what it is about"),
            Field("customer", "Customer", held.customer),
            Field("customer_address", "Address", held.customer_address, "parts apart by commas"),
            Field("order", "Order", held.order, "the customer's"),
            Field("fields", "More", more, "name: value, a line each", long=True),
        ]  # fmt: skip
        title = f"Job {job.job}" if job else "New job"
        super().__init__(parent, title, "", fields, "Keep it" if job else "Begin the job", self._take)
        box, address = self.fields.boxes["customer"], self.fields.boxes["customer_address"]
        assert isinstance(box, QLineEdit) and isinstance(address, QLineEdit)
        offered = QCompleter(list(known), box)
        offered.activated[str].connect(lambda name: address.setText(known.get(name, address.text())))
        box.setCompleter(offered)

    def _take(self, held: Mapping[str, str]) -> None:
        if self.job is None:
            self.made = begin_job(self.lab, held)
        else:
            self.made = change_job(self.lab, self.job.job, held)


class JobButton(QPushButton):
    """What is open, and a menu of what could be."""

    changed = pyqtSignal(object)
    """The lab as it is now: another one, or the same with another job"""
    said = pyqtSignal(str)

    def __init__(self, lab: Lab, busy: Callable[[], bool]) -> None:
        super().__init__()
        self.lab, self.busy = lab, busy
        self.setObjectName("job")
        # Of one width, whatever the job is called: the places keep theirs, and a hand finds them unseen.
        self.setFixedWidth(256)
        job = f"{lab.facts.job} {lab.facts.job_title}".strip()
        text = f"{lab.facts.name} · {job}" if job else f"{lab.facts.name} · no job"
        self.setText(self.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, 226) + "  ▾")
        self.setToolTip(f"{text}: other jobs, a new one, other labs")
        self.setAccessibleName(text)
        self.clicked.connect(self.ask)
        self.menu_: QMenu | None = None

    def ask(self) -> None:
        """The menu, below the button."""
        self.menu_ = menu = QMenu(self)
        for job in jobs(self.lab)[:12]:
            if job.job != self.lab.facts.job:
                words = f"Open job {job.text}" + (" (closed)" if job.closed else "")
                menu.addAction(words, lambda n=job.job: self._do(lambda: open_job(self.lab, n)))
        menu.addAction("New job…", self.new_job)
        if self.lab.facts.job:
            menu.addAction("Facts of this job…", self.job_facts)
            menu.addAction("Close this job", lambda: self._do(lambda: close_job(self.lab)))
        menu.addAction("After each take…", self.after_each)
        menu.addAction("Lookout…", self.lookout)
        menu.addSeparator()
        for place in [p for p in lately() if p != self.lab.folder][:5]:
            menu.addAction(f"Open lab {place.name}", lambda p=place: self._do(lambda: open_lab(p)))
        menu.addAction("Another lab…", self._other)
        menu.popup(self.mapToGlobal(self.rect().bottomLeft()))

    # Sheets belong to the window: below the dark head they would be written in its light ink.

    def new_job(self) -> None:
        self._sheet(JobSheet(self.window(), self.lab))

    def job_facts(self) -> None:
        self._sheet(JobSheet(self.window(), self.lab, job_of(self.lab, self.lab.facts.job)))

    def lookout(self) -> None:
        """Runs watched from elsewhere."""
        from .lookout_sheet import LookoutSheet

        LookoutSheet(self.window()).open()

    def after_each(self) -> None:
        """What is done with a take when it is over."""
        sheet = AfterSheet(self.window(), self.lab)
        if self._held():
            sheet.reject()
            return

        def kept() -> None:
            self.changed.emit(sheet.made)
            if sheet.trial:
                say_in_window("A trial mail is on its way.")
                Trial(self.lab.folder).said.connect(say_in_window)

        sheet.then(kept)

    def _sheet(self, sheet: JobSheet) -> None:
        if self._held():
            sheet.reject()
            return
        sheet.then(lambda: self.changed.emit(sheet.made))

    def _held(self) -> bool:
        if self.busy():
            self.said.emit("A run is going on: stop it, or wait for its end.")
            return True
        return False

    def _do(self, act: Callable[[], Lab]) -> None:
        if self._held():
            return
        try:
            self.changed.emit(act())
        except BadInput as problem:
            self.said.emit(str(problem))

    def _other(self) -> None:
        place = QFileDialog.getExistingDirectory(self, "A lab's folder")
        if place:
            self._do(lambda: open_lab(Path(place)))
