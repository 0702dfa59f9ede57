"""The profile on the Stage: target, corridor, abort ground, what the shaker allows, and handles to take hold of."""

from __future__ import annotations

import copy
import math
from typing import Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QLineEdit, QMenu

from ....core.control import headroom
from ....core.errors import BadInput
from ....core.quantities import parse
from ....core.signal.sinefit import Floats
from ....desktop.parts import theme
from ....desktop.parts.chart import Chart, frequency_text
from ....engine.preparing import Prepared
from ..profiles import RandomFile, SineFile, profile_of
from ..settings import with_tolerance

UNITS = {
    "acceleration": ("m/s²", "m/s^2", 1.0),
    "velocity": ("mm/s", "m/s", 1e3),
    "displacement": ("mm pk-pk", "m", 1e3),
}
"""Shown unit, the unit it is written in, and shown per SI."""


def shown_per_acceleration(quantity: str, f: Floats) -> Floats:
    """What an acceleration [m/s² peak] at f [Hz] is multiplied by to be shown as a quantity."""
    w = 2 * np.pi * np.asarray(f, dtype=float)
    return np.asarray({"acceleration": np.ones_like(w), "velocity": 1e3 / w, "displacement": 2e3 / w**2}[quantity])


class Grip(pg.TargetItem):
    """A point that can be dragged; its value is typed after a double click."""

    def __init__(self, chart: ProfileChart, part: tuple[str, int], x: float, y: float, across: bool, up: bool) -> None:
        brass = theme.color("brass")
        super().__init__(
            (math.log10(x), math.log10(y)), size=12, symbol="o", movable=True, pen=pg.mkPen(brass, width=2),
            brush=theme.color("card"), hoverPen=pg.mkPen(theme.color("brass"), width=3), hoverBrush=theme.color("sand"),
        )  # fmt: skip
        self.chart, self.part, self.across, self.up = chart, part, across, up
        self.home = (x, y)
        self.setZValue(45)
        self.sigPositionChanged.connect(lambda _: self.chart.dragged(self, False))
        self.sigPositionChangeFinished.connect(lambda _: self.chart.dragged(self, True))

    def xy(self) -> tuple[float, float]:
        """Hz and shown value; an axis that it does not move along stays at home."""
        at = self.pos()
        return (10 ** at.x() if self.across else self.home[0], 10 ** at.y() if self.up else self.home[1])

    def mouseDoubleClickEvent(self, event: Any) -> None:
        self.chart.type_on(self)
        event.accept()

    def mouseClickEvent(self, event: Any) -> None:
        if event.double():
            self.chart.type_on(self)
            event.accept()


class ProfileChart(Chart):
    """A sine or random profile. `edited` gives the whole profile anew, as plain data."""

    edited = pyqtSignal(dict)
    trouble = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__("Hz", "m/s² peak", log_x=True, log_y=True)
        self.getPlotItem().getViewBox().setMouseEnabled(False, False)
        self.quantity = "acceleration"
        self.data: dict[str, Any] = {}
        self.prepared: Prepared | None = None
        self.grips: list[Grip] = []
        self.notes: list[Any] = []
        self.editable = False
        self.entry: QLineEdit | None = None
        self.solved: Any = None
        self.level = 0.0
        """dB re the profile, at which the test is just now: corridor and limits go with it"""

    # --- drawing ---------------------------------------------------------------------------------------------

    def show_prepared(self, prepared: Prepared, editable: bool) -> None:
        self.prepared, self.editable, self.level = prepared, editable, 0.0
        self.data = copy.deepcopy(prepared.settings.profile)
        self.draw()

    def show_quantity(self, quantity: str) -> None:
        self.quantity = quantity
        if self.prepared is not None:
            self.draw()

    def show_level(self, level: float) -> None:
        """The profile, corridor and limits as they hold at a level [dB]."""
        if abs(level - self.level) > 0.05 and self.prepared is not None:
            self.level = level
            self.draw()

    def file(self) -> SineFile | RandomFile:
        held, _ = with_tolerance(profile_of(self.data, "profile"))  # type: ignore[arg-type]
        assert isinstance(held, (SineFile, RandomFile))
        return held

    @property
    def is_sine(self) -> bool:
        return bool(self.data.get("segments"))

    def draw(self) -> None:
        """Everything anew from the data in hand."""
        held = self.file()
        profile = held.solved()
        self.solved = profile
        for item in (*self.grips, *self.notes):
            self.removeItem(item)
        self.grips, self.notes = [], []
        f = profile.grid()
        if isinstance(held, SineFile):
            self.y_unit = UNITS[self.quantity][0] + (" peak" if self.quantity != "displacement" else "")
            by = shown_per_acceleration(self.quantity, f)
            target = profile.acceleration(f)
            names = ("tolerance", "abort")
        else:
            self.y_unit = "(m/s²)²/Hz"
            by, target = np.ones_like(f), profile.density(f)
            names = ("tolerances", "aborts")
        self.apply_theme()
        full = by
        by = by * 10 ** (self.level / (20 if isinstance(held, SineFile) else 10))
        low, high = profile.edges(f, names[0])
        a_low, a_high = profile.edges(f, names[1])
        finite = np.where(np.isfinite(high), high, target * 4)
        positive = np.where(low > 0, low, target / 4)
        has_abort = bool(np.all(np.isfinite(a_high)))
        top = float(np.max(a_high * full if has_abort else finite * full)) * (1.9 if has_abort else 1.6)
        bottom = float(np.min(a_low * by if np.all(a_low > 0) else positive * by)) / (1.7 if np.all(a_low > 0) else 1.5)
        self.corridor("corridor", f, positive * by, finite * by)
        if has_abort:
            self.forbidden("abort-high", f, a_high * by, top * 1e4)
            self._note("abort", f[f.size // 3], float((a_high * by)[f.size // 3]), "clay", (0.5, 1.1))
        else:
            self.drop("abort-high")
        if np.all(a_low > 0):
            self.forbidden("abort-low", f, a_low * by, bottom * 1e-4)
        else:
            self.drop("abort-low")
        word = f"profile at {self.level:+.0f} dB".replace("-", "−") if self.level else "profile"
        self.curve("target", f, target * by, "ink", 1.4, word, z=6)
        if self.level:
            self._note(word, f[f.size // 2], float((target * by)[f.size // 2]), "ink", (0.5, 1.1))
        self._capability(f, full, top)
        self.window((f[0] / 1.12, f[-1] * 1.12), (bottom, top))
        if self.editable and (self.quantity == "acceleration" or self.is_sine):
            self._grips(held)
        self._labels(held)

    def _note(self, text: str, x: float, y: float, role: str, anchor: tuple[float, float]) -> None:
        item = pg.TextItem(text, color=theme.color(role), anchor=anchor)
        item.setFont(theme.font(9, 500))
        item.setPos(math.log10(x), math.log10(max(y, 1e-12)))
        self.addItem(item, ignoreBounds=True)
        self.notes.append(item)

    def _capability(self, f: Floats, by: Floats, top: float) -> None:
        """What the shaker allows at each frequency, where that is within the picture."""
        self.drop("capability")
        if self.prepared is None or not self.is_sine:
            return
        rig = self.prepared.rig
        lines = rig.capability_lines().lines(rig.plant(), f)
        allowed = np.min(list(lines.values()), axis=0) * by
        if np.min(allowed) < top * 1.02:
            self.curve("capability", f, np.minimum(allowed, top * 2), "clay", 1.8, "shaker allows", z=5)
            at = int(np.argmin(allowed / self.solved.acceleration(f) / by))
            which = min(lines, key=lambda n: lines[n][at])
            self._note(f"shaker: {which}", f[at], float(min(allowed[at], top)), "clay", (0.0, -0.1))

    def _labels(self, held: SineFile | RandomFile) -> None:
        if isinstance(held, SineFile):
            words = {"displacement": "constant displacement", "velocity": "constant velocity",
                     "acceleration": "constant acceleration", "line": "line"}  # fmt: skip
            for piece in self.solved.pieces:
                width = math.log(piece.high / piece.low) / math.log(self.solved.stop / self.solved.start)
                if width < 0.22:
                    continue
                middle = math.sqrt(piece.low * piece.high)
                y = float(piece.at(middle)) * float(shown_per_acceleration(self.quantity, np.array(middle)))
                self._note(words[piece.law], middle, y, "muted", (0.5, 1.35))
            for f in self.solved.crossovers:
                y = float(self.solved.acceleration(f)) * float(shown_per_acceleration(self.quantity, np.array(f)))
                self._note(f"{f:.4g} Hz", f, y, "muted", (-0.06, -0.25))
        else:
            rms = self.solved.rms()
            lock = " locked" if held.rms is not None else ""
            f = math.sqrt(self.solved.start * self.solved.stop)
            self._note(f"{rms:.3g} m/s² rms ({rms / 9.80665:.3g} g){lock}", f, float(self.solved.density(np.array(f))),
                       "ink", (0.5, 1.5))  # fmt: skip

    # --- taking hold -----------------------------------------------------------------------------------------

    def _grips(self, held: SineFile | RandomFile) -> None:
        def add(part: tuple[str, int], x: float, y: float, across: bool, up: bool) -> None:
            grip = Grip(self, part, x, y, across, up)
            self.addItem(grip, ignoreBounds=True)
            self.grips.append(grip)

        if isinstance(held, RandomFile):
            for i, (f, s) in enumerate(zip(self.solved.frequencies, self.solved.densities, strict=True)):
                add(("point", i), f, s, True, True)
            self._edge_grips(held, add, self.solved.densities[-1])
            return

        def shown(f: float) -> float:
            return float(self.solved.acceleration(f)) * float(shown_per_acceleration(self.quantity, np.array(f)))

        add(("start", 0), held.start, shown(held.start), True, False)
        add(("stop", 0), held.stop, shown(held.stop), True, False)
        for i, (part, piece) in enumerate(zip(held.segments, self.solved.pieces, strict=True)):
            if i < len(held.segments) - 1 and part.until is not None:
                add(("until", i), piece.high, shown(piece.high), True, False)
            if piece.law != "line":
                middle = math.sqrt(piece.low * piece.high)
                add(("level", i), middle, shown(middle), False, True)

        self._edge_grips(held, add, shown(held.stop))

    def _edge_grips(self, held: SineFile | RandomFile, add: Any, level: float) -> None:
        """Grips on the edges of corridor and abort ground, where one band holds for the whole profile."""
        if held.tolerance is None and held.abort is None:
            return
        f = np.array([self.solved.stop])
        at = float(held.stop) if isinstance(held, SineFile) else float(self.solved.stop)
        for name, which in (("tolerance", 0), ("tolerance", 1), ("abort", 0), ("abort", 1)):
            if getattr(held, name) is None:
                continue
            edges = self.solved.edges(f, name if self.is_sine else f"{name}s")
            edge, target = (
                float(edges[which][0]),
                float(self.solved.acceleration(f)[0] if self.is_sine else self.solved.density(f)[0]),
            )
            if 0 < edge < np.inf:
                x = at / (1.06 if name == "tolerance" else 1.13)
                add((f"{name}-{'low' if which == 0 else 'high'}", 0), x, level * edge / target, False, True)

    def changed(self, part: tuple[str, int], x: float, y: float) -> dict[str, Any]:
        """The profile with one part at Hz `x` and shown value `y`."""
        made = copy.deepcopy(self.data)
        kind, i = part
        if kind in ("start", "stop"):
            made[kind] = f"{float(f'{x:.3g}'):g} Hz"
        elif kind == "until":
            made["segments"][i]["until"] = f"{float(f'{x:.3g}'):g} Hz"
        elif kind == "level":
            law = self.file().segments[i].law()  # type: ignore[union-attr]
            acceleration = y / float(shown_per_acceleration(self.quantity, np.array(x)))
            w = 2 * math.pi * x
            value = acceleration / {"acceleration": 1.0, "velocity": w, "displacement": w * w / 2}[law]
            _, unit, _ = UNITS[law]
            text = (
                f"{float(f'{1e3 * value:.3g}'):g} mm" if law == "displacement" else f"{float(f'{value:.3g}'):g} {unit}"
            )
            made["segments"][i][law] = text
        elif kind.startswith(("tolerance", "abort")):
            name, side = kind.split("-")
            f = np.array([self.solved.stop])
            now = float(self.solved.acceleration(f)[0]) if self.is_sine else float(self.solved.density(f)[0])
            shown = now * float(shown_per_acceleration(self.quantity, f)[0]) if self.is_sine else now
            db = (20 if self.is_sine else 10) * math.log10(max(y, 1e-12) / shown)
            held = getattr(self.file(), name)
            band = {k: v for k, v in held.model_dump().items() if v is not None}
            made[name] = {**band, side: f"{db:.2g} dB"}
        else:
            point = made["points"][i]
            point["frequency"] = f"{float(f'{x:.3g}'):g} Hz"
            point.pop("slope", None)
            point["density"] = f"{float(f'{y:.3g}'):g} (m/s^2)^2/Hz"
        return made

    def dragged(self, grip: Grip, finished: bool) -> None:
        """The line follows a grip; when it is let go the profile is edited."""
        if not self.editable:
            return
        try:
            made = self.changed(grip.part, *grip.xy())
            held, _ = with_tolerance(profile_of(made, "profile"))  # type: ignore[arg-type]
            solved = held.solved()
        except BadInput as problem:
            self.trouble.emit(str(problem))
            if finished:
                self.draw()
            return
        if finished:
            self.data = made
            self.edited.emit(made)
            return
        f = solved.grid()
        if isinstance(held, SineFile):
            self.curve(
                "target",
                f,
                solved.acceleration(f) * shown_per_acceleration(self.quantity, f),
                "brass",
                2.0,
                "profile",
                z=6,
            )
        else:
            self.curve("target", f, solved.density(f), "brass", 2.0, "profile", z=6)
        x, y = grip.xy()
        value = f"{frequency_text(float(f'{x:.3g}'))} Hz" if not grip.up else f"{y:.3g} {self.y_unit}"
        self.trouble.emit(
            value if not (grip.up and grip.across) else f"{frequency_text(float(f'{x:.3g}'))} Hz, {value}"
        )

    def type_on(self, grip: Grip) -> None:
        """A small entry on the grip; Return takes the value, Esc leaves it."""
        if not self.editable:
            return
        if self.entry is not None:
            self.entry.deleteLater()
        at = self.mapFromScene(self.getPlotItem().getViewBox().mapViewToScene(grip.pos()))
        entry = QLineEdit(self)
        x, y = grip.home
        entry.setText(f"{x:.4g} Hz" if not grip.up else self._value_text(grip, y))
        entry.setFixedWidth(130)
        entry.move(min(max(int(at.x()) - 60, 4), self.width() - 134), max(int(at.y()) - 34, 2))
        entry.returnPressed.connect(lambda: self.typed(grip, entry.text()))
        entry.editingFinished.connect(entry.deleteLater)
        entry.show()
        entry.setFocus()
        entry.selectAll()
        self.entry = entry

    def _value_text(self, grip: Grip, y: float) -> str:
        unit = self.y_unit.replace(" peak", "").replace(" pk-pk", "").replace("²", "^2")
        return f"{y:.4g} {unit}"

    def typed(self, grip: Grip, text: str) -> None:
        """Take a typed frequency or value."""
        try:
            x, y = grip.home
            if grip.up:
                si = {"acceleration": ("m/s^2", 1.0), "velocity": ("m/s", 1e3), "displacement": ("m", 1e3)}
                unit, by = ("(m/s^2)^2/Hz", 1.0) if not self.is_sine else si[self.quantity]
                y = by * parse(text, unit, "value")
            else:
                x = parse(text, "Hz", "frequency")
            made = self.changed(grip.part, x, y)
            profile_of(made, "profile").solved()  # type: ignore[union-attr]
        except BadInput as problem:
            self.trouble.emit(str(problem))
            return
        self.data = made
        self.edited.emit(made)

    # --- more and fewer parts --------------------------------------------------------------------------------

    def contextMenuEvent(self, event: Any) -> None:
        if not self.editable:
            super().contextMenuEvent(event)
            return
        at = self.getPlotItem().getViewBox().mapSceneToView(self.mapToScene(event.pos()))
        f = float(10 ** at.x())
        menu = QMenu(self)
        for text, made in self.choices_at(f):
            menu.addAction(text, lambda m=made: self._take(m))
        menu.addSeparator()
        menu.addAction("Copy as picture", self.copy_picture)
        menu.addAction("Copy as table", self.copy_table)
        menu.exec(event.globalPos())

    def choices_at(self, f: float) -> list[tuple[str, dict[str, Any]]]:
        """What can be done with the part at a frequency [Hz]: words, and the profile that it would make."""
        made: list[tuple[str, dict[str, Any]]] = []
        start, stop = float(self.solved.start), float(self.solved.stop)
        if not start < f < stop:
            return made
        text = f"{float(f'{f:.3g}'):g} Hz"
        if not self.is_sine:
            points = self.data["points"]
            k = int(np.searchsorted(self.solved.frequencies, f))
            new = {"frequency": text, "density": f"{float(self.solved.density(np.array(f))):.4g} (m/s^2)^2/Hz"}
            made.append((f"Breakpoint at {text}", {**self.data, "points": [*points[:k], new, *points[k:]]}))
            near = int(np.argmin(np.abs(np.log(np.array(self.solved.frequencies) / f))))
            if len(points) > 2:
                name = f"{self.solved.frequencies[near]:g} Hz"
                made.append(
                    (f"Remove the breakpoint at {name}", {**self.data, "points": points[:near] + points[near + 1 :]})
                )
            return made
        segments = self.data["segments"]
        k = next(i for i, p in enumerate(self.solved.pieces) if f <= p.high)
        level = float(self.solved.acceleration(f))
        w = 2 * math.pi * f
        values = {"acceleration": f"{level:.3g} m/s^2", "velocity": f"{level / w:.3g} m/s",
                  "displacement": f"{2e3 * level / w**2:.3g} mm"}  # fmt: skip
        for law, value in values.items():
            if law in segments[k]:
                continue
            kept = {n: v for n, v in segments[k].items() if n in ("until", "tolerance", "abort")}
            made.append(
                (
                    f"Constant {law} here",
                    {**self.data, "segments": [*segments[:k], {law: value, **kept}, *segments[k + 1 :]]},
                )
            )
        if "line" not in segments[k]:
            law = next(n for n in values if n in segments[k])
            first, second = {law: segments[k][law], "until": text}, dict(segments[k])
            made.append(
                (f"Split at {text}", {**self.data, "segments": [*segments[:k], first, second, *segments[k + 1 :]]})
            )
        if len(segments) > 1:
            made.append(("Remove this segment", {**self.data, "segments": segments[:k] + segments[k + 1 :]}))
        return made

    def _take(self, made: dict[str, Any]) -> None:
        try:
            profile_of(made, "profile").solved()  # type: ignore[union-attr]
        except BadInput as problem:
            self.trouble.emit(str(problem))
            return
        self.data = made
        self.edited.emit(made)

    # --- what was measured -----------------------------------------------------------------------------------

    def measured(
        self, key: str, f: Any, level: Any, role: str = "teal", width: float = 2.4, name: str = "control"
    ) -> None:
        """A measured curve, given as acceleration [m/s²] or density."""
        x, y = np.asarray(f, dtype=float), np.asarray(level, dtype=float)
        if self.is_sine:
            y = y * shown_per_acceleration(self.quantity, x)
        self.curve(key, x, y, role, width, name, z=12 if role == "teal" else 8)


def headroom_lines(prepared: Prepared) -> list[tuple[str, float, str]]:
    """Use of each of the shaker's limits by the planned profile: name, share, and where and how much."""
    rig = prepared.rig
    held = profile_of(prepared.settings.profile, "profile")
    if isinstance(held, SineFile):
        made = headroom.of_sine(held.solved(), rig.plant(), rig.capability_lines(), rig.band())
    elif isinstance(held, RandomFile):
        made = headroom.of_random(held.solved(), rig.plant(), rig.capability_lines(), rig.band())
    else:
        return []
    return [(x.name, x.used, x.sentence) for x in made.limits]
