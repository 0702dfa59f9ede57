"""What the tiny domain shows on the Bench: the figure alone, large; the rest is as for any method."""

from __future__ import annotations

from lucid_anvil.desktop.bench.plain_bench import PlainBench
from lucid_anvil.lab.takes import Take


class ToneSide(PlainBench):
    """The Bench while a tone rises."""

    name = "tiny"

    @property
    def here(self) -> bool:
        return self.bench.prepared is not None and self.bench.prepared.method.name == "tone-rise"

    def show_done(self, take: Take, status: str, reason: str | None) -> None:
        super().show_done(take, status, reason)
        if self.bench.finding is not None:
            self.stage.told.setText(f"It rose by {self.bench.finding.reading('rise').value:.0f} dB")
