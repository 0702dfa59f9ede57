"""The Bench of a dynamic analysis: how the specimen is held, chosen by picture, beside the curves that grow."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout

from ....desktop.bench.plain_bench import PlainBench, PlainStage
from ....engine.preparing import Prepared
from .fixture_view import FixtureView
from .pictures import FIXTURES, PictureChoice
from .sizes import GEOMETRY, SizeAsking

if TYPE_CHECKING:
    from ....desktop.bench.place import BenchPlace


class DmaStage(PlainStage):
    """Fixture and curves side by side."""

    def __init__(self) -> None:
        super().__init__()
        self.fixtures, self.specimen = PictureChoice("How it is held", FIXTURES, 3), FixtureView()
        layout = self.charts.parentWidget().layout()  # type: ignore[union-attr]
        assert isinstance(layout, QVBoxLayout)
        at = layout.indexOf(self.charts)
        layout.removeWidget(self.charts)
        row, side = QHBoxLayout(), QVBoxLayout()
        row.setSpacing(4)
        side.setSpacing(2)
        self.fixtures.setFixedWidth(228)
        side.addWidget(self.fixtures)
        side.addWidget(self.specimen, 1)
        row.addLayout(side)
        row.addWidget(self.charts, 1)
        layout.insertLayout(at, row, 1)

    def show_prepared(self, prepared: Prepared, editable: bool) -> None:
        super().show_prepared(prepared, editable)
        geometry = prepared.settings.geometry
        self.fixtures.setVisible(editable)
        self.fixtures.show_choice(geometry.kind, editable)
        self.specimen.show_geometry(geometry, editable)


class DmaBench(PlainBench):
    """What the Bench shows and does for a plan of dynamic analysis."""

    name = "dma"

    def __init__(self, bench: BenchPlace) -> None:
        super().__init__(bench)
        self.stage: DmaStage = DmaStage()
        self.sizes = SizeAsking(bench, "geometry", GEOMETRY, lambda: self.stage.specimen.size_)
        self.stage.specimen.asked.connect(self.sizes.ask)
        self.stage.fixtures.chosen.connect(lambda key: self.sizes.choose("kind", key, self.stage.specimen.lacks(key)))
        self.stage.typed.returnPressed.connect(self.go)

    @property
    def here(self) -> bool:
        prepared = self.bench.prepared
        return prepared is not None and prepared.method.name == "dma"
