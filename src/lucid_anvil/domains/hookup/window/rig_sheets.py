"""What is typed about a rig: a new one, one of its inputs, all its inputs as a table, a guard."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from PyQt6.QtWidgets import QHBoxLayout, QWidget

from ....core.errors import BadInput
from ....core.quantities import parse
from ....desktop.parts.forms import Field, Sheet
from ....desktop.parts.widgets import button, label
from ....engine.guards import label_of, limit_of
from ....lab.ledger import Entry
from ....lab.patterns import slug
from ....lab.place import Lab
from ....lab.plans import GuardPart, watches
from ....rig.editing import (
    STAND_INS,
    Card,
    begin_rig,
    change_channel,
    channels_in,
    drop_guard,
    put_channels,
    put_guard,
    rows_from_table,
)
from ....rig.model import kinds, load_rig

OF_A_CARD = "Sound card"
NONE = "none"


class NewRigSheet(Sheet):
    """A new rig: what its front end is. What was begun is `rig`."""

    def __init__(self, parent: QWidget, lab: Lab) -> None:
        self.lab = lab
        self.rig: Path | None = None
        fields = [
            Field("name", "Name", hint="such as Bench 2, shaker SK-1"),
            Field("kind", "Front end", choices=(OF_A_CARD, *STAND_INS.values())),
            Field("device", "Card", hint="its name or number; the system's own when left empty"),
            Field("inputs", "Inputs", "2", "of a card"),
            Field("rate", "Rate", "48 kHz", "of a card"),
        ]
        super().__init__(
            parent, "New rig", "Devices, inputs and how they are wired. Sensors are plugged in afterwards.", fields,
            "Begin the rig", self._begin,
        )  # fmt: skip

    def _begin(self, held: Mapping[str, str]) -> None:
        place = self.lab.folder / "rigs" / f"{slug(held['name'])}.rig.yaml"
        if held["kind"] == OF_A_CARD:
            if not held["inputs"].strip().isdigit():
                raise BadInput(f"inputs: '{held['inputs']}' is no number of inputs.")
            device: str | int | None = held["device"].strip() or None
            device = int(device) if isinstance(device, str) and device.isdigit() else device
            kind: str | Card = Card(device, parse(held["rate"], "Hz", "rate"), int(held["inputs"]))
        else:
            kind = next(k for k, v in STAND_INS.items() if v == held["kind"])
        begin_rig(place, held["name"], kind)
        self.rig = place


class ChannelSheet(Sheet):
    """One input: its name, what hangs on it, range and supply."""

    def __init__(self, parent: QWidget, place: Path, index: int, entries: list[Entry]) -> None:
        self.place, self.index = place, index
        self.held = channels_in(place)[index]
        part = load_rig(place).channels[index]
        serials = [e.sensor.serial for e in entries]
        if part.sensor and part.sensor not in serials:
            serials.append(part.sensor)
        fields = [
            Field("role", "Name", part.role, "control, response, reference, unit, force, ..."),
            Field("sensor", "Sensor", part.sensor or NONE, choices=(NONE, *serials)),
            Field("sensitivity", "Sensitivity", str(part.sensitivity or ""),
                  "only where the sensor is in no ledger, such as 10 mV/(m/s²)"),
            Field("kind", "Measures", part.kind, choices=kinds()),
            Field("input", "Input", str(part.input)),
            Field("range", "Range", f"{part.range:g} V", "such as 1 V"),
            Field("supply", "Supply", "on" if part.supply else "off", choices=("on", "off")),
            Field("coupling", "Coupling", part.coupling, choices=("dc", "ac")),
            Field("polarity", "Polarity", part.polarity, choices=("as it is", "reversed")),
            Field("balanced", "Leads", "balanced" if part.balanced else "one", choices=("one", "balanced")),
            Field("scale", "Current monitor", str(self.held.get("scale", "")), "such as 0.1 V/A"),
            Field("conditioner_gain", "Charge amplifier", str(self.held.get("conditioner_gain", "")), "as 10 mV/pC"),
            Field("bridge_amplifier", "Bridge amplifier", str(self.held.get("bridge_amplifier", "")),
                  "as 5 V/(mV/V)"),
            Field("on", "Sits on", part.on, "table, or a place of the article"),
            Field("axis", "Direction", part.axis, choices=("axial", "transverse")),
        ]  # fmt: skip
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 0, 0, 0)
        line.addWidget(label("", "muted"), 1)
        for text, act in (("Up", self._up), ("Down", self._down), ("Take it away", self._drop)):
            one = button(text)
            one.setAutoDefault(False)
            one.clicked.connect(lambda _=False, a=act: self._act(a))
            line.addWidget(one)
        super().__init__(parent, f"Input {part.input}", "", fields, "Change it", self._change, [row])

    def _act(self, act: Callable[[], None]) -> None:
        try:
            act()
        except BadInput as problem:
            self.wrong.setText(str(problem))
            self.wrong.show()
            return
        self.accept()

    def _move(self, by: int) -> None:
        rows = channels_in(self.place)
        at = self.index + by
        if not 0 <= at < len(rows):
            raise BadInput("It stands at the end already.")
        rows[self.index], rows[at] = rows[at], rows[self.index]
        put_channels(self.place, rows)

    def _up(self) -> None:
        self._move(-1)

    def _down(self) -> None:
        self._move(1)

    def _drop(self) -> None:
        rows = channels_in(self.place)
        if len(rows) == 1:
            raise BadInput("A rig needs one input at least: change this one.")
        put_channels(self.place, rows[: self.index] + rows[self.index + 1 :])

    def _change(self, typed: Mapping[str, str]) -> None:
        usual = {"supply": "on", "on": "table", "axis": "axial", "kind": "acceleration", "coupling": "dc",
                 "polarity": "as it is", "balanced": "off"}
        made: dict[str, Any] = {}
        for key, text in typed.items():
            value: Any = text.strip() or None
            if key == "sensor" and value == NONE:
                value = None
            if key == "balanced":
                value = "on" if value == "balanced" else "off"
            if key == "input":
                if value is None or not value.isdigit():
                    raise BadInput(f"input: '{text}' is no number of an input.")
                value = int(value)
            if key not in self.held and value == usual.get(key):
                value = None
            made[key] = value
        if made["role"] is None:
            raise BadInput("name: an input needs one.")
        change_channel(self.place, self.index, {k: v for k, v in made.items() if v != self.held.get(k)})


class TableSheet(Sheet):
    """All inputs at once, pasted from a spreadsheet."""

    def __init__(self, parent: QWidget, place: Path) -> None:
        self.place = place
        fields = [Field("table", "Inputs", hint="input\tname\tsensor\trange\n1\tcontrol\tGA-07\t1 V", long=True)]
        super().__init__(
            parent, "All inputs",
            "A table with its header: input, name, sensor, measures, range, sensitivity, supply, direction, place. Only"
            " input and name are needed. It takes the place of the inputs that are there.",
            fields, "Put them in", self._put,
        )  # fmt: skip

    def _put(self, held: Mapping[str, str]) -> None:
        put_channels(self.place, rows_from_table(held["table"]))


class GuardSheet(Sheet):
    """One more guard, or another limit of one that is there."""

    def __init__(self, parent: QWidget, place: Path, held: GuardPart | None = None) -> None:
        self.place, self.held = place, held
        words = {label_of(w): w for w in sorted(watches(), key=label_of) if w != "late"}
        roles = [c.role for c in load_rig(place).channels]
        fields = [
            Field("watch", "Watches", label_of(held.watch) if held else "",
                  choices=[label_of(held.watch)] if held else list(words)),
            Field("limit", "Limit", "" if held is None or held.limit is None else str(held.limit), "with its unit"),
            Field("action", "Action", held.action if held else "cut", choices=("cut", "ease", "hold", "note")),
            Field("channel", "Channel", (held.channel if held else None) or NONE, choices=(NONE, *roles)),
        ]
        gone = button("Take it away", tip="Nothing watches this any more")
        gone.setAutoDefault(False)
        gone.setVisible(held is not None)
        gone.clicked.connect(self._drop)
        super().__init__(
            parent, "A guard", "It watches in a process of its own, whatever else goes wrong.", fields, "Set it",
            lambda typed: self._put({**typed, "watch": words[typed["watch"]]}),
            [gone] if held is not None else [],
        )  # fmt: skip

    def _put(self, typed: Mapping[str, str]) -> None:
        typed = {k: "" if k == "channel" and v == NONE else v.strip() for k, v in typed.items()}
        watch = typed["watch"]
        if typed["limit"]:
            try:  # said here, not when the bench is to run
                limit_of(GuardPart(watch=watch, limit=typed["limit"]))
            except BadInput as problem:
                raise BadInput(str(problem).replace(f"guards.{watch}", label_of(watch))) from None
        put_guard(self.place, typed)

    def _drop(self) -> None:
        assert self.held is not None
        try:
            drop_guard(self.place, self.held.watch, self.held.channel)
        except BadInput as problem:
            self.wrong.setText(str(problem))
            self.wrong.show()
            return
        self.accept()
