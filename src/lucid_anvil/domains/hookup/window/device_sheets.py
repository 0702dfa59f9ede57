"""Sheets that change a rig's devices: the front end, what drives, instruments that are reached over the network."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from PyQt6.QtWidgets import QHBoxLayout, QWidget

from ....core.errors import BadInput
from ....desktop.parts.background import Background
from ....desktop.parts.forms import Field, Sheet
from ....desktop.parts.widgets import button, label
from ....lab.editing import NOTHING, put_in, shown, typed
from ....lab.textfiles import load_yaml
from ....rig.editing import changed
from ....rig.model import load_rig

FRONT_END = (
    ("model", "Name", "what stands on it"), ("rate", "Rate", "such as 48 kHz"),
    ("block", "Samples at a time", "such as 512: fewer stop sooner, more ask less of the machine"),
    ("bits", "Resolution", "bits"),
    ("ranges", "Input ranges", "such as [1 V, 10 V]"), ("source_range", "Source", "its largest peak, such as 1 V"),
    ("patience", "Patience", "that a late drive may have, such as 0.25 s"),
)  # fmt: skip
CARD = (
    ("card.device", "Card", "its name or number; the system's own when empty"),
    ("card.latency", "Held ahead", "such as 0.1 s: less cuts quicker, more loses fewer samples"),
)
BANK = (
    ("limit", "Load bank's limit", "°C of its resistors"), ("capacity", "Heat capacity", "such as 60 J/K"),
    ("resistance", "To the room", "such as 0.6 K/W"), ("lowest", "Lowest load", "such as 4 ohm"),
)  # fmt: skip
INSTRUMENTS = {"supply": "Power supply", "load": "Load bank", "meter": "Voltmeter"}
"""Instruments that a rig can name, over SCPI at a TCP port"""


SHAKER = (
    ("model", "Shaker", "its name"), ("moving_mass", "Moving mass", "such as 6.2 kg"),
    ("payload", "Article and fixture", "such as 4 kg"), ("force", "Force", "such as 1780 N"),
    ("stroke", "Stroke", "peak to peak, such as 25 mm"), ("velocity", "Velocity", "such as 1.6 m/s"),
    ("acceleration", "Acceleration", "such as 600 m/s^2"), ("current", "Coil current", "such as 40 A"),
    ("lowest", "From", "such as 5 Hz"), ("highest", "To", "such as 2500 Hz"),
)  # fmt: skip
AMPLIFIER = (("gain", "Amplifier's gain", "a ratio, such as 20"), ("clip", "Amplifier clips at", "such as 110 V"))


FRAME = (
    ("model", "Load frame", "its name"), ("speed", "Speed of the crosshead", "per volt, such as 0.5 mm/s/V"),
    ("force", "Force", "of frame and load cell, such as 50 kN"),
    ("serial", "Serial number", "as it stands in the ledger; empty where it does not"),
    ("travel", "Travel", "between its stops, such as 200 mm"),
)  # fmt: skip
CHAMBER = (
    ("host", "Chamber at", "its controller's address, Modbus TCP"), ("port", "Port", "such as 502"),
    ("unit", "Unit", "Modbus unit, 1 when empty"), ("set_register", "Set point", "holding register, from 0"),
    ("read_register", "Temperature", "input register, from 0"), ("step", "One count", "°C, 0.1 when empty"),
    ("lowest", "From", "°C, such as -60"), ("highest", "To", "°C, such as 200"),
)  # fmt: skip


class ShakerSheet(Sheet):
    """What drives, a shaker with its amplifier or a load frame, allows as its makers state it."""

    def __init__(self, parent: QWidget, place: Path) -> None:
        self.place = place
        held = load_yaml(place)
        framed = load_rig(place).framed
        parts = (("frame", FRAME), ("chamber", CHAMBER)) if framed else (("shaker", SHAKER), ("amplifier", AMPLIFIER))
        self.before = {(p, k): str((held.get(p) or {}).get(k, "")) for p, rows in parts for k, _, _ in rows}
        fields = [Field(f"{p}.{k}", name, self.before[p, k], hint) for p, rows in parts for k, name, hint in rows]
        super().__init__(
            parent, "Load frame" if framed else "Shaker and amplifier",
            "Its valve takes a command of speed: no volt must be a crosshead at rest." if framed else
            "What is left empty is taken as for a small shaker: fill in what you know.",
            fields, "Keep it", self._keep,
        )  # fmt: skip

    def _keep(self, typed: Mapping[str, str]) -> None:
        def change() -> None:
            for (part, key), was in self.before.items():
                text = typed[f"{part}.{key}"].strip()
                if text != was:
                    put_in(self.place, [part, key], text or NOTHING)

        changed(self.place, change)


class PartsSheet(Sheet):
    """Values of a rig's parts as its file has them; what was changed is put in its place, all else stays."""

    def __init__(
        self, parent: QWidget, place: Path, title: str, words: str, rows: Mapping[str, tuple[str, str]],
        more: Mapping[str, Any] | None = None,
    ) -> None:  # fmt: skip
        """`rows`: name and hint by the path of a value, its parts joined by dots; `more`: what holds where the file
        says nothing."""
        self.place = place
        held = load_yaml(place)
        self.before = {key: shown(_at(held, key)) for key in rows}
        usual = more or {}
        fields = [
            Field(key, name, self.before[key] or shown(usual.get(key)), hint) for key, (name, hint) in rows.items()
        ]
        self.offered = {f.key: f.held for f in fields}
        super().__init__(parent, title, words, fields, "Keep it", self._keep)

    def _keep(self, held: Mapping[str, str]) -> None:
        def change() -> None:
            for key, was in self.before.items():
                text = held[key].strip()
                if text not in (was, self.offered[key]):
                    put_in(self.place, key.split("."), typed(text) if text else NOTHING)

        changed(self.place, change)


class FrontEndSheet(PartsSheet):
    """The front end: its name, clock, ranges; a sound card's own."""

    def __init__(self, parent: QWidget, place: Path) -> None:
        end = load_rig(place).front_end
        rows = {f"front_end.{k}": (name, hint) for k, name, hint in FRONT_END}
        if end.driver == "soundcard":
            rows |= {f"front_end.{k}": (name, hint) for k, name, hint in CARD}
        now = {"front_end.model": end.model, "front_end.rate": f"{end.rate:g} Hz", "front_end.block": end.block,
               "front_end.bits": end.bits, "front_end.source_range": f"{end.source_range:g} V",
               "front_end.ranges": [f"{v:g} V" for v in end.ranges]}  # fmt: skip
        super().__init__(
            parent, place, "Front end",
            "A card that runs at another rate than before is calibrated anew." if end.driver == "soundcard" else
            "What a real one can do, its maker states.", rows, now,
        )  # fmt: skip


class InstrumentSheet(Sheet):
    """Where an instrument is reached; it is asked who it is before it is kept."""

    def __init__(self, parent: QWidget, place: Path, name: str) -> None:
        self.place, self.name = place, name
        held = load_yaml(place)
        part = (held.get("instruments") or {}).get(name) or {}
        fields = [
            Field("host", "Address", str(part.get("host", "")), "such as 10.0.0.12; empty takes it off the rig"),
            Field("port", "Port", str(part.get("port", "")), "such as 5025"),
        ]
        bank = BANK if name == "load" else ()
        self.before = {k: str((held.get("load") or {}).get(k, "")) for k, _, _ in bank}
        fields += [Field(k, words, self.before[k], hint) for k, words, hint in bank]
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 0, 0, 0)
        self.who = label("", "muted", wrap=True)
        ask = button("Ask who it is")
        ask.setAutoDefault(False)
        ask.clicked.connect(self.ask)
        self.asked = ask
        line.addWidget(self.who, 1)
        line.addWidget(ask)
        super().__init__(
            parent, INSTRUMENTS[name], "It speaks SCPI over a TCP port.", fields, "Keep it", self._keep, [row]
        )

    def _where(self, held: Mapping[str, str]) -> tuple[str, int] | None:
        """Host and port as typed; None where there is none."""
        host, port = held["host"].strip(), held["port"].strip()
        if not host:
            return None
        if not port.isdigit() or not 1 <= int(port) <= 65535:
            raise BadInput(f"port: '{port}' is no number from 1 to 65535.")
        return host, int(port)

    def ask(self) -> None:
        """Ask what stands there who it is, aside: what is not there takes its time to say so."""
        from ....rig.instruments import Instrument, Trouble

        try:
            where = self._where(self.fields.values())
            if where is None:
                raise BadInput("Type its address first.")
        except BadInput as problem:
            self.who.setText(str(problem))
            return
        self.asked.setEnabled(False)
        self.who.setText("Asking…")

        def work() -> str:
            try:
                one = Instrument(INSTRUMENTS[self.name].lower(), *where)
            except (BadInput, Trouble) as problem:
                return str(problem)
            with contextlib.closing(one):
                return f"{one.identity} answers after {1e3 * one.took:.0f} ms."

        def then(said: str) -> None:
            self.who.setText(said)
            self.asked.setEnabled(True)

        aside = Background(self)  # goes with the sheet: what comes later is nobody's
        aside.run("ask", work, then)

    def _keep(self, held: Mapping[str, str]) -> None:
        where = self._where(held)

        def change() -> None:
            value = NOTHING if where is None else {"host": where[0], "port": where[1]}
            if where is not None or self.name in (load_yaml(self.place).get("instruments") or {}):
                put_in(self.place, ["instruments", self.name], value)
            for key, was in self.before.items():
                if held[key].strip() != was:
                    put_in(self.place, ["load", key], typed(held[key]))

        changed(self.place, change)


def _at(held: Any, key: str) -> Any:
    for part in key.split("."):
        held = held.get(part) if isinstance(held, dict) else None
    return held
