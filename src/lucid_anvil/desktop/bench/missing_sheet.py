"""What a rig lacks for a kind of test, added where it is found missing: inputs with their roles and sensors."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

from PyQt6.QtWidgets import QWidget

from ...core.errors import BadInput
from ...lab.ledger import Entry
from ...rig.editing import KIND_OF, add_inputs
from ...rig.model import kinds
from ..parts.forms import Field, Sheet

NONE = "none"


class MissingSheet(Sheet):
    """A sensor or a sensitivity for each input that is missing."""

    def __init__(
        self, parent: QWidget, place: Path, roles: Sequence[str], measured: Sequence[str], entries: Sequence[Entry]
    ) -> None:  # fmt: skip
        """`roles`: those that no input has; `measured`: kinds that no input measures, which get a role of their name
        where no missing role is one of them."""
        self.place, self.sensors = place, {e.sensor.serial: e.sensor for e in entries if e.sensor.retired is None}
        # A kind that is missing is what a missing role measures, as far as there are both.
        self.wanted = [(r, measured[i] if i < len(measured) else "") for i, r in enumerate(roles)]
        self.wanted += [(k, k) for k in measured[len(roles) :]]
        fields = []
        for role, kind in self.wanted:
            fit = [s.serial for s in self.sensors.values() if not kind or KIND_OF.get(s.kind) == kind]
            fields += [
                Field(f"{role}.sensor", f"{role}: sensor", NONE, choices=(NONE, *fit)),
                Field(f"{role}.kind", "measures", kind or "voltage", choices=kinds()),
                Field(f"{role}.sensitivity", "sensitivity", "", "where it stands in no ledger, such as 10 mV/N"),
            ]
        super().__init__(
            parent, f"Inputs for {place.name.removesuffix('.rig.yaml')}",
            "Each takes the first free input; its range, supply and number are changed in the hook-up (Ctrl+R).",
            fields, "Add them", self._add,
        )  # fmt: skip

    def _add(self, held: Mapping[str, str]) -> None:
        made = []
        for role, _ in self.wanted:
            serial, typed = held[f"{role}.sensor"], held[f"{role}.sensitivity"].strip()
            sensor = None if serial == NONE else self.sensors[serial]
            if sensor is not None and typed:
                raise BadInput(f"{role}: {serial} stands in the ledger with its sensitivity: leave the typed one out.")
            made.append((role, held[f"{role}.kind"], typed, sensor))
        add_inputs(self.place, made)
