"""A rig begun and changed: each change goes into its file in its place alone, and is taken back where it can't be."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from importlib.resources import files
from pathlib import Path
from typing import Any

from ..core.errors import BadInput
from ..lab.editing import put_in, put_rows
from ..lab.ledger import Sensor
from ..lab.textfiles import dump_yaml, load_yaml, whole_write
from .model import MEASURED, Rig, load_rig

STAND_INS = {
    "comparison": "Stand-in shaker for comparisons", "shaker": "Large stand-in shaker", "hammer": "Stand-in hammer",
    "pump": "Stand-in machine", "microphone": "Stand-in calibrator and microphone",
    "amplifier": "Stand-in amplifier on its loads", "frame": "Stand-in load frame",
    "pulser": "Stand-in load frame with plates", "driver": "Stand-in loudspeaker driver",
    "horn": "Stand-in horn driver under power", "dma": "Stand-in frame with chamber",
    "headset": "Stand-in headset on couplers", "handset": "Stand-in handset, mouth to line",
    "earpiece": "Stand-in handset, line to ear",
    "actuator": "Stand-in actuator", "press": "Stand-in press", "pressure": "Stand-in hand pump",
}  # fmt: skip
"""Benches of stand-ins that can be begun, by the name of what they are made from"""
KIND_OF = {
    "accelerometer": "acceleration", "force sensor": "force", "force hammer": "force", "load cell": "voltage",
    "microphone": "pressure", "pressure sensor": "voltage", "extensometer": "length", "displacement sensor": "length",
}  # fmt: skip
"""Kind of channel that a sensor makes of an input"""


@dataclass(frozen=True)
class Card:
    """A sound card as a new rig's front end."""

    device: str | int | None = None
    rate: float = 48000.0
    inputs: int = 2


def changed(place: Path, change: Callable[[], None]) -> Rig:
    """The rig after a change of its file. Raises BadInput; then the file is as it was."""
    before = place.read_text(encoding="utf-8")
    try:
        change()
        return load_rig(place)
    except BadInput:
        whole_write(place, before)
        raise


def begin_rig(place: Path, name: str, kind: str | Card) -> Rig:
    """A new rig file: of a bench of stand-ins, or of a sound card whose inputs are bare volts. Raises BadInput."""
    if place.exists():
        raise BadInput(f"{place}: there is a rig of that name: choose another.")
    if not name.strip():
        raise BadInput("A rig needs a name.")
    place.parent.mkdir(parents=True, exist_ok=True)
    try:
        if isinstance(kind, Card):
            if not 1 <= kind.inputs <= 64:
                raise BadInput(f"inputs: {kind.inputs} is not between 1 and 64.")
            whole_write(place, dump_yaml(_of_card(name.strip(), kind)))
        else:
            source = files("lucid_anvil") / "data" / "demo" / "rigs" / f"{kind}.rig.yaml"
            whole_write(place, source.read_text(encoding="utf-8"))
            put_in(place, ["name"], name.strip())
        return load_rig(place)
    except BadInput:
        place.unlink(missing_ok=True)
        raise


def _of_card(name: str, card: Card) -> dict[str, Any]:
    block = 256
    while block < 0.02 * card.rate:
        block *= 2
    part = {"driver": "soundcard", "model": "sound card", "rate": f"{card.rate:g} Hz", "block": block,
            "ranges": ["10 V"], "source_range": "1 V", "patience": "1 s"}  # fmt: skip
    if card.device is not None:
        part["card"] = {"device": card.device}  # type: ignore[assignment]
    return {
        "lucid-anvil-rig": 1, "name": name, "front_end": part,
        "channels": [{"role": f"input {i + 1}", "input": i + 1, "kind": "voltage", "supply": "off", "coupling": "ac"}
                     for i in range(card.inputs)],
        "guards": [{"watch": "overload", "after": "60 ms", "action": "cut"},
                   {"watch": "disk", "limit": "200e6", "action": "ease"}],
    }  # fmt: skip


def channels_in(place: Path) -> list[dict[str, Any]]:
    """The rig's channels as its file has them."""
    return [dict(c) for c in load_yaml(place).get("channels") or []]


def put_channels(place: Path, rows: Sequence[Mapping[str, Any]]) -> Rig:
    """All channels anew, in this order. Raises BadInput."""
    return changed(place, lambda: put_rows(place, ["channels"], [dict(r) for r in rows]))


def change_channel(place: Path, index: int, changes: Mapping[str, Any]) -> Rig:
    """One channel's values; None takes one away. Raises BadInput."""
    rows = channels_in(place)
    rows[index] = {k: v for k, v in {**rows[index], **changes}.items() if v is not None}
    return put_channels(place, rows)


def add_channel(place: Path) -> Rig:
    """One more input, as bare volts, on the first free place. Raises BadInput."""
    rows = channels_in(place)
    taken = {int(r["input"]) for r in rows}
    number = next(i for i in range(1, 1000) if i not in taken)
    roles = {str(r["role"]) for r in rows}
    role = next(n for n in (f"input {number}", *(f"input {number} {c}" for c in "bcdefgh")) if n not in roles)
    return put_channels(place, [*rows, {"role": role, "input": number, "kind": "voltage", "supply": "off"}])


def plug(place: Path, index: int, sensor: Sensor) -> Rig:
    """A sensor of the ledger onto an input: the channel's kind follows. On a bench of stand-ins one that is not
    described yet is, with its nominal sensitivity as its truth. Raises BadInput."""
    if sensor.retired is not None:
        raise BadInput(f"{sensor.serial}: it is retired: nothing new may rest on it.")
    kind = KIND_OF.get(sensor.kind, "voltage")

    def change() -> None:
        rows = channels_in(place)
        supply = {"supply": "off"} if sensor.unit.startswith("pC") or kind == "voltage" else {}
        held = {k: v for k, v in rows[index].items() if k not in ("kind", "supply", "scale", "sensitivity")}
        kinds = {} if kind == "acceleration" else {"kind": kind}
        rows[index] = {**held, **kinds, "sensor": sensor.serial, **supply}
        rig = load_rig(place)
        if rig.is_standin and kind in MEASURED and sensor.serial not in rig.standin.sensors:
            if sensor.nominal is None:
                raise BadInput(f"{sensor.serial}: it has no nominal sensitivity that a stand-in could go by.")
            unit = sensor.unit.replace("²", "^2")
            made: dict[str, Any] = {"sensitivity": f"{sensor.nominal:g} {unit}"}
            if unit.startswith("pC"):
                made["output"] = "charge"
            put_in(place, ["standin", "sensors", sensor.serial], made)
        put_rows(place, ["channels"], rows)

    return changed(place, change)


COLUMNS = {
    "input": "input", "name": "role", "sensor": "sensor", "measures": "kind", "range": "range", "place": "on",
    "sensitivity": "sensitivity", "supply": "supply", "direction": "axis", "role": "role", "kind": "kind",
}  # fmt: skip
"""What the header of a table of inputs may say, and the channel's own word for it"""


def rows_from_table(text: str) -> list[dict[str, Any]]:
    """Channels from a pasted table with a header, its cells parted by tabs, semicolons or commas. Raises BadInput."""
    lines = [line for line in text.splitlines() if line.strip()]
    if len(lines) < 2:
        raise BadInput("The table needs its header and a line at least.")
    parted = next((c for c in "\t;," if c in lines[0]), None)
    if parted is None:
        raise BadInput("The header's cells are parted by nothing: use tabs, semicolons or commas.")
    heads = [h.strip().strip('"').lower() for h in lines[0].split(parted)]
    for head in heads:
        if head not in COLUMNS:
            raise BadInput(f"The header says '{head}'; there are {', '.join(list(COLUMNS)[:9])}.")
    if "input" not in heads or not {"name", "role"} & set(heads):
        raise BadInput("The header needs input and name.")
    made = []
    for number, line in enumerate(lines[1:], 2):
        cells = [c.strip().strip('"') for c in line.split(parted)]
        if len(cells) > len(heads):
            raise BadInput(f"line {number}: {len(cells)} cells under {len(heads)} heads.")
        row: dict[str, Any] = {COLUMNS[h]: c for h, c in zip(heads, cells, strict=False) if c}
        if not str(row.get("input", "")).isdigit():
            raise BadInput(f"line {number}: '{row.get('input', '')}' is no number of an input.")
        row["input"] = int(row["input"])
        made.append(row)
    return made


def put_guard(place: Path, typed: Mapping[str, str]) -> Rig:
    """Set a guard of the rig: the one that watches the same on the same channel, or one more. Raises BadInput."""
    wanted = {k: v.strip() for k, v in typed.items() if v and v.strip()}
    rows = [dict(g) for g in load_yaml(place).get("guards") or []]
    same = next((g for g in rows if g["watch"] == wanted["watch"] and g.get("channel") == wanted.get("channel")), None)
    if same is None:
        rows.append(wanted)
    else:
        at = rows.index(same)
        rows[at] = {**same, **wanted}
        if "limit" not in wanted:
            rows[at].pop("limit", None)
    return changed(place, lambda: put_rows(place, ["guards"], rows))


def drop_guard(place: Path, watch: str, channel: str | None) -> Rig:
    """Take a guard off the rig; one that every rig has by itself comes back as built in. Raises BadInput."""
    rows = [dict(g) for g in load_yaml(place).get("guards") or []]
    left = [g for g in rows if not (g["watch"] == watch and g.get("channel") == channel)]
    if len(left) == len(rows):
        raise BadInput(f"{place}: its file has no guard '{watch}' of its own to take away.")
    return changed(place, lambda: put_rows(place, ["guards"], left))


def add_inputs(place: Path, wanted: Sequence[tuple[str, str, str, Sensor | None]]) -> Rig:
    """Inputs more on the first free places: role, kind, typed sensitivity and sensor of each, empty where there is
    none; a sensor of the ledger says by itself what it measures. All of them or none. Raises BadInput."""
    before = place.read_text(encoding="utf-8")
    try:
        for role, kind, sensitivity, sensor in wanted:
            at = len(add_channel(place).channels) - 1
            typed = {"sensitivity": sensitivity} if sensitivity else {}
            change_channel(place, at, {"role": role, "kind": kind, **typed})
            if sensor is not None:
                plug(place, at, sensor)
        return load_rig(place)
    except BadInput:
        whole_write(place, before)
        raise
