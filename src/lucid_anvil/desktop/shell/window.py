"""The main window: the bar with its places and the Stop button, and the four places."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6 import sip
from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtGui import QCloseEvent, QKeySequence, QShortcut
from PyQt6.QtWidgets import QApplication, QMainWindow, QPushButton, QStackedWidget, QVBoxLayout, QWidget

from ...contracts import registry
from ...engine.nursery import keep_one
from ...lab.beginning import lately, remember
from ...lab.finding_things import Thing, things
from ...lab.place import Lab
from ...lab.steps_planning import method_for

if TYPE_CHECKING:
    from ...protocol.messages import Board
    from ..bench.place import BenchPlace

from ..bench.calibrate_sheet import CalibrateSheet
from ..bench.run_orders import STEP
from ..ledger.place import LedgerPlace
from ..parts import theme
from ..parts.copying import copy_here
from ..parts.link import Link
from ..parts.widgets import Elided, button, head_bar, label
from .finder import Finder
from .job_button import JobButton
from .letters import Letters

PLACES = ("Ledger", "Bench", "Lightbox", "Folio")

OPENED: list[Any] = []
"""The window that took another one's place"""


PRESS = "press "
"""What the keys of actions begin with that a button of the open place does"""


class MainWindow(QMainWindow):
    """One window on one lab."""

    def __init__(self, lab: Lab, pace: str = "real") -> None:
        super().__init__()
        self.lab = lab
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setWindowTitle(f"Lucid Anvil · {lab.facts.name}")
        self.resize(1280, 800)
        self.setMinimumSize(1080, 680)
        self.link = Link(lab.note)
        ground = QWidget()
        ground.setObjectName("ground")
        column = QVBoxLayout(ground)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self._bar())
        self.places = QStackedWidget()
        self.ledger = LedgerPlace(lab)
        self.pace = pace
        self._bench: BenchPlace | None = None
        self._late: dict[str, Any] = {}
        self.places.addWidget(self.ledger)
        column.addWidget(self.places, 1)
        self.strip = Elided("", "muted")
        self.strip.setContentsMargins(14, 0, 14, 0)
        self.strip.setFixedHeight(20)
        column.addWidget(self.strip)
        self.setCentralWidget(ground)
        self.ledger.calibrate.connect(self._calibrate)
        self.link.board.connect(self._room)
        self._keys()
        self.quiet = QTimer(self)
        self.quiet.setSingleShot(True)
        self.quiet.timeout.connect(lambda: self.strip.setText(""))
        self.ticks = LoopWatch(self)
        self.manual: Any = None
        self.setStyleSheet(theme.style_sheet())
        self.ledger.view.setFocus()
        if lab.note.exists() and self.bench.pick_up():
            self.go("Bench")
        # The Bench takes a while to make; the Ledger is seen and usable before.
        self.soon = QTimer(self)
        self.soon.setSingleShot(True)
        self.soon.timeout.connect(self._rest)
        self.soon.start(250)

    def _rest(self) -> None:
        """What takes its time: the Bench; and a domain that is installed and could not be loaded is said."""
        assert self.bench is not None
        keep_one()  # runs begin at once then
        for name, why in registry.broken().items():
            self.say(f"The domain '{name}' is left out: {why}.")

    @property
    def bench(self) -> BenchPlace:
        """The Bench, made when it is first wanted or just after the window is shown."""
        if self._bench is None:
            from ..bench.place import BenchPlace

            self._bench = made = BenchPlace(self.lab, self.link, self.pace)
            self.places.addWidget(made)
            made.said.connect(self.say)
            made.running.connect(self._running)
            made.go.connect(self.go)
            made.paper.connect(self.show_paper)
            made.accepted.connect(self._accepted)
            made.certificate.connect(lambda _t: self.go("Folio"))
        return self._bench

    def _bar(self) -> QWidget:
        bar, row = head_bar()
        self.where = JobButton(self.lab, lambda: self._bench is not None and self._bench.busy)
        self.where.changed.connect(self.reopen)
        self.where.said.connect(self.say)
        row.addWidget(self.where)
        self.tabs = {}
        for i, place in enumerate(PLACES):
            made = button(place, "place", f"Ctrl+{i + 1}")
            made.setCheckable(True)
            made.setFocusPolicy(Qt.FocusPolicy.TabFocus)
            made.clicked.connect(lambda _=False, p=place: self.go(p))
            row.addWidget(made)
            self.tabs[place] = made
        self.tabs["Ledger"].setChecked(True)
        row.addStretch(1)
        self.seek = button("Find anything   Ctrl K", "seek", "Any plan, take, sensor, paper or action, by typing")
        self.seek.clicked.connect(self.find_anything)
        row.addWidget(self.seek)
        row.addStretch(1)
        self.room = label("", "muted")
        row.addWidget(self.room)
        row.addSpacing(8)
        self.stop = button(
            "Stop · F12",
            "stop",
            "Brings the drive down from anywhere. The emergency stop is the red button on the wall.",
        )
        self.stop.clicked.connect(self.bench_stop)
        row.addWidget(self.stop)
        return bar

    def reopen(self, lab: Lab) -> None:
        """The window on another lab, or on this one with another job, in this one's place."""
        if lab.folder != self.lab.folder or lab.folder in lately():  # a scratch lab is not remembered
            remember(lab.folder)
        made = MainWindow(lab, self.pace)
        made.setGeometry(self.geometry())
        made.show()
        OPENED[:] = [made]  # nobody else holds it
        self.close()

    def _keys(self) -> None:
        def key(sequence: str, action: Any) -> None:
            QShortcut(QKeySequence(sequence), self).activated.connect(action)

        key("F12", self.bench_stop)
        key("M", lambda: self.bench.make_mark())
        key("H", lambda: (self.bench.side or self.bench.plain).hold())
        key("[", lambda: (self.bench.side or self.bench.plain).turn(-STEP))
        key("]", lambda: (self.bench.side or self.bench.plain).turn(STEP))
        key("N", lambda: (self.bench.side or self.bench.plain).skip())
        key("P", lambda: (self.bench.side or self.bench.plain).next_point())
        key("G", lambda: (self.bench.side or self.bench.plain).go())
        key("T", lambda: self.bench.editing.toggle())
        key("L", lambda: self.bench.edit_limits())
        key("Ctrl+T", self.new_test)
        key("Ctrl+R", self.hook_up)
        key("Ctrl+K", self.find_anything)
        key("F1", self.explain)
        key("K", self.letters)
        key("Ctrl+C", lambda: self.say(copy_here()))
        key("?", lambda: self.open_help("keys.md"))
        key("Esc", lambda: self.bench.editing.hide())
        key("Ctrl+Z", lambda: self.bench.editing.undo())
        key("Ctrl+Shift+Z", lambda: self.bench.editing.redo())
        key("Ctrl+N", self.night)
        for i, place in enumerate(PLACES):
            key(f"Ctrl+{i + 1}", lambda p=place: self.go(p))

    def new_test(self) -> None:
        """Begin a plan of any method, on the Bench."""
        self.go("Bench")
        self.bench.new_test()

    def find_anything(self) -> None:
        """Anything of the lab, by typing."""
        finder = Finder(self, [*self._actions(), *self._here(), *things(self.lab), *self._pages()], self._found)
        self.finder = finder
        finder.open()

    def letters(self) -> None:
        """A letter on each thing that can be pressed."""
        Letters(self)

    def _here(self) -> list[Thing]:
        """Whatever can be pressed in the place that is open, so that all of it is reached by typing too."""
        self.pressed: dict[str, QPushButton] = {}
        for one in self.findChildren(QPushButton):
            words, _, key = one.text().partition("  ")
            if words.strip("… ") and one.isVisible() and one.isEnabled() and words not in self.pressed:
                self.pressed[words] = one
        known = {text for text, *_ in self._deeds().values()}
        return [
            Thing("action", words.strip("… "), one.text().partition("  ")[2], f"{PRESS}{words}", one.toolTip())
            for words, one in self.pressed.items() if words.strip("… ") not in known
        ]  # fmt: skip

    def _actions(self) -> list[Thing]:
        return [Thing("action", text, key, name, words) for name, (text, key, words, _) in self._deeds().items()]

    def _deeds(self) -> dict[str, tuple[str, str, str, Any]]:
        """What can be done from anywhere: by name, its words, its key, what else it is found by, and how."""
        return {
            "new": ("New test", "Ctrl T", "plan begin method", self.new_test),
            "rig": ("Hook up a rig", "Ctrl R", "inputs live look by hand", self.hook_up),
            "sensor": ("Enter a sensor", "", "ledger", self.enter_sensor),
            "night": ("Day or night", "Ctrl N", "dark colours", self.night),
            "help": ("Manual", "F1", "help explain", lambda: self.open_help("first-day.md")),
            "letters": ("Letters on what can be pressed", "K", "keyboard hints buttons", self.letters),
            "keys": ("Keys", "?", "shortcuts", lambda: self.open_help("keys.md")),
            "bundle": ("Support bundle", "", "versions logs mend report a fault", self.support_bundle),
            "stop": ("Stop", "F12", "drive down", self.bench_stop),
            **{f"go-{p}": (p, f"Ctrl {i + 1}", "place", lambda p=p: self.go(p)) for i, p in enumerate(PLACES)},
        }

    def _pages(self) -> list[Thing]:
        from .help_view import pages, title_of

        return [Thing("help", title_of(text), "manual", name) for name, text in pages().items()]

    def _found(self, thing: Thing) -> None:
        """Open what was chosen."""
        if thing.kind == "action" and thing.key.startswith(PRESS):
            one = self.pressed[thing.key.removeprefix(PRESS)]
            if not sip.isdeleted(one):  # the place may have gone on meanwhile
                one.click()
        elif thing.kind == "action":
            self._deeds()[thing.key][3]()
        elif thing.kind == "sensor":
            self.go("Ledger")
            self.ledger.filter.choose("all", quiet=True)
            self.ledger.search.clear()
            self.ledger.reload(thing.key)
        elif thing.kind == "paper":
            self.show_paper(thing.key)
        elif thing.kind == "help":
            self.open_help(thing.key)
        else:
            self.go("Bench")
            bench, place = self.bench, Path(thing.key)
            if thing.kind == "plan":
                bench.open_plan(place)
            elif thing.kind == "take":
                bench.open_take(place)
            else:
                bench.waker.wake(place)

    def support_bundle(self) -> None:
        """What whoever mends the program needs to see, as a file in the lab."""
        from ...engine.bundle import bundle_name, write_bundle

        place = bundle_name(self.lab)

        def then(names: list[str]) -> None:
            self.bench.said.emit(f"{place.name}: {len(names)} files, no raw data. Look through it before it is sent.")

        self.bench.aside.run("bundle", lambda: write_bundle(self.lab, place), then)

    def enter_sensor(self) -> None:
        """A new sensor, in the Ledger."""
        self.go("Ledger")
        self.ledger.enter_sensor()

    def open_help(self, page: str, heading: str = "") -> None:
        """A page of the manual, in a window of its own."""
        if self.manual is None:
            from .help_view import HelpWindow

            self.manual = HelpWindow(self)
        self.manual.open(page, heading)

    def explain(self) -> None:
        """What is under the pointer."""
        from .help_view import topic_at, widget_under_pointer

        self.open_help(*(topic_at(widget_under_pointer()) or self._topic()))

    def _topic(self) -> tuple[str, str]:
        """What is explained where nothing says what it is: the test in hand, or the place."""
        if self.places.currentWidget() is self._bench and self.bench.prepared is not None:
            return f"method-{self.bench.prepared.method.name}.md", ""
        place = next((p for p, tab in self.tabs.items() if tab.isChecked()), "Bench")
        return "places.md", place

    def hook_up(self) -> None:
        """Wake a rig without any test, on the Bench."""
        self.go("Bench")
        self.bench.hook_up()

    def bench_stop(self) -> None:
        """Stop, wherever one is."""
        self.bench.stop()
        self.say(
            "Stop: the drive is coming down." if self.bench.state == "running" else "Stop: nothing is being driven."
        )

    def go(self, place: str) -> None:
        """Show a place; those that are seldom needed are made when first shown."""
        for name, made in self.tabs.items():
            made.setChecked(name == place)
        if place == "Ledger":
            self.places.setCurrentWidget(self.ledger)
        elif place == "Bench":
            self.places.setCurrentWidget(self.bench)
        else:
            if place not in self._late:
                if place == "Lightbox":
                    from ..lightbox.place import LightboxPlace as Wanted
                else:
                    from ..folio.place import FolioPlace as Wanted  # type: ignore[assignment]
                self._late[place] = Wanted(self.lab)
                self.places.addWidget(self._late[place])
                if place == "Lightbox":
                    self._late[place].written.connect(self.show_paper)
                else:
                    self._late[place].said.connect(self.say)
            else:
                self._late[place].reload()
            self.places.setCurrentWidget(self._late[place])

    def show_paper(self, name: str) -> None:
        """A paper that was just written, in the Folio."""
        self.go("Folio")
        self._late["Folio"].reload(name)
        self.say(f"Kept in the Folio as {name}.")

    def place(self, name: str) -> Any:
        """A place that is made late."""
        return self._late.get(name)

    def say(self, text: str) -> None:
        """One sentence at the foot; it leaves by itself."""
        self.strip.setText(text)
        self.quiet.start(12000)

    def night(self) -> None:
        """Change between day and night."""
        theme.use(theme.palette() is theme.DAY)
        self.setStyleSheet(theme.style_sheet())
        self.bench.repaint_charts()
        if "Lightbox" in self._late:
            self._late["Lightbox"].repaint_charts()
        self.update()

    def _calibrate(self, serial: str) -> None:
        entry = next((e for e in self.ledger.entries if e.sensor.serial == serial), None)
        if entry is not None and method_for(entry.sensor.kind):
            sheet = CalibrateSheet(self, self.lab, entry.sensor)

            def made() -> None:
                assert sheet.plan is not None
                self.go("Bench")
                self.bench.open_plan(sheet.plan)

            sheet.then(made)
            return
        self.go("Bench")
        QApplication.processEvents()
        self.bench.calibrate(serial)

    def _running(self, is_running: bool) -> None:
        self.stop.setProperty("live", is_running)
        self.stop.style().unpolish(self.stop)
        self.stop.style().polish(self.stop)

    def _accepted(self, serial: str) -> None:
        self.ledger.reload(serial)

    def _room(self, board: Board) -> None:
        if board.room:
            r = board.room
            self.room.setText(f"{r['temperature']:.1f} °C · {r['humidity']:.0f} % RH\nsupply {r['supply']:.1f} V")

    def closeEvent(self, event: QCloseEvent) -> None:
        """Closing leaves a run alive; a walk-round that drives nothing is ended."""
        if self.bench.state in ("starting", "walk-round") and self.link.connected:
            self.link.close_run()
            until = time.monotonic() + 0.3
            while time.monotonic() < until:
                QApplication.processEvents()
        self.soon.stop()
        self.link.drop()
        event.accept()


class LoopWatch(QTimer):
    """How late the event loop is, for the bench marks: a 10 ms timer's lateness in milliseconds."""

    def __init__(self, parent: MainWindow) -> None:
        super().__init__(parent)
        self.late: list[float] = []
        self.last = time.perf_counter()
        self.timeout.connect(self._tick)

    def begin(self) -> None:
        self.late = []
        self.last = time.perf_counter()
        self.start(10)

    def _tick(self) -> None:
        now = time.perf_counter()
        self.late.append(1e3 * (now - self.last) - 10)
        self.last = now
