"""The sheet of a reference that is read over its own line; it is asked what it shows before it is kept."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from PyQt6.QtWidgets import QHBoxLayout, QWidget

from ....contracts.settings import check
from ....core.errors import BadInput
from ....core.quantities import factor
from ....desktop.parts.background import Background
from ....desktop.parts.forms import Field, Sheet
from ....desktop.parts.widgets import button, label
from ....lab.editing import NOTHING, put_in, typed
from ....lab.textfiles import load_yaml
from ....rig.editing import changed
from ....rig.gauge import MEASURES, GaugePart

NONE = "nothing: there is none"
NO_SENSOR = "no entry"


class GaugeSheet(Sheet):
    """Where the gauge is reached, how it is asked, and what its numbers mean."""

    def __init__(self, parent: QWidget, place: Path, serials: Sequence[str]) -> None:
        self.place = place
        self.before: dict[str, Any] = dict(load_yaml(place).get("gauge") or {})
        held = {k: str(v) for k, v in self.before.items()}
        chosen = held.get("sensor", NO_SENSOR)
        known = (NO_SENSOR, *serials, *([chosen] if chosen not in (NO_SENSOR, *serials) else []))
        fields = [
            Field("measures", "Measures", held.get("measures", NONE), choices=(NONE, *MEASURES)),
            Field("unit", "In", held.get("unit", ""), "the unit of its numbers, such as bar or kN"),
            Field("sensor", "In the Ledger", chosen, choices=known),
            Field("host", "Address", held.get("host", ""), "such as 10.0.0.12; empty where a stand-in serves it"),
            Field("port", "Port", held.get("port", ""), "such as 5025, or 502"),
            Field("over", "Speaks", held.get("over", "scpi"), choices=("scpi", "modbus")),
            Field("query", "Is asked", held.get("query", ""), "over SCPI, such as MEAS:PRES?"),
            Field("device", "Unit", held.get("device", ""), "Modbus unit, 1 when empty"),
            Field("table", "Registers", held.get("table", "input"), choices=("input", "holding")),
            Field("first", "First register", held.get("first", ""), "from 0"),
            Field("words", "Number", held.get("words", "float32"),
                  choices=("float32", "int16", "uint16", "int32", "uint32")),
            Field("order", "Its words", held.get("order", "high first"), choices=("high first", "low first")),
            Field("count", "One count", held.get("count", ""), "of the unit, for whole numbers; 1 when empty"),
        ]  # fmt: skip
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 0, 0, 0)
        self.shows = label("", "muted", wrap=True)
        self.asked = button("Ask what it shows")
        self.asked.setAutoDefault(False)
        self.asked.clicked.connect(self.ask)
        line.addWidget(self.shows, 1)
        line.addWidget(self.asked)
        super().__init__(parent, "Reference over its own line", "A force or pressure gauge that no input records: a"
                         " comparison by steps reads it by itself.", fields, "Keep it", self._keep, [row])  # fmt: skip
        self.fields.boxes["over"].currentTextChanged.connect(self._speaks)  # type: ignore[union-attr]
        self._speaks(held.get("over", "scpi"))

    def _speaks(self, over: str) -> None:
        """Only what matters for how it speaks."""
        for key in ("query", "device", "table", "first", "words", "order", "count"):
            self.fields.reveal(key, (key == "query") == (over == "scpi"))

    def _typed(self, held: Mapping[str, str]) -> dict[str, Any] | None:
        """The gauge as the rig file would have it; None: none. Raises BadInput."""
        if held["measures"] == NONE:
            return None
        texts = {k: v.strip() for k, v in held.items() if v.strip() and v != NO_SENSOR}
        made = {k: typed(v) for k, v in texts.items() if k in GaugePart.model_fields}
        other = ("device", "table", "first", "words", "order", "count") if made["over"] == "scpi" else ("query",)
        made = {k: v for k, v in made.items() if k not in other}
        if "unit" not in made:
            raise BadInput("in: say the unit of its numbers, such as bar or kN.")
        if "host" in made and "port" not in made:
            raise BadInput("port: say at which it listens, such as 5025 for SCPI, or 502 for Modbus.")
        check(GaugePart, made, "gauge")
        return made

    def ask(self) -> None:
        """What it shows now, asked aside: what is not there takes its time to say so."""
        from ....rig.gauge import GaugeDesk
        from ....rig.instruments import Trouble

        try:
            made = self._typed(self.fields.values())
            if made is None or "port" not in made:
                raise BadInput("Say what it measures, its address and its port first.")
            part: GaugePart = check(GaugePart, made, "gauge")
        except BadInput as problem:
            self.shows.setText(str(problem))
            return
        self.asked.setEnabled(False)
        self.shows.setText("Asking…")

        def work() -> str:
            began = time.monotonic()
            try:
                desk = GaugeDesk(part, part.host, int(part.port or 0))
                with contextlib.closing(desk):
                    value = desk.look()["gauge"] / factor(part.unit, MEASURES[part.measures])
            except (BadInput, Trouble) as problem:
                return str(problem)
            return f"It shows {value:.6g} {part.unit}, after {1e3 * (time.monotonic() - began):.0f} ms."

        def then(said: str) -> None:
            self.shows.setText(said)
            self.asked.setEnabled(True)

        aside = Background(self)  # goes with the sheet: what comes later is nobody's
        aside.run("ask", work, then)

    def _keep(self, held: Mapping[str, str]) -> None:
        made = self._typed(held)

        def change() -> None:
            if made is None:
                if self.before:
                    put_in(self.place, ["gauge"], NOTHING)
                return
            for key in {*made, *self.before}:
                if made.get(key) != self.before.get(key):
                    put_in(self.place, ["gauge", key], made.get(key, NOTHING))

        changed(self.place, change)
