"""One picture of each main view, made from the demo, into docs/screenshots."""

from __future__ import annotations

import datetime
import os
import shutil
import tempfile
from pathlib import Path

os.environ["QT_QPA_PLATFORM"] = "offscreen"


KEPT = (
    "ledger", "bench-running", "budget", "folio", "night", "profile-editor", "sine-running", "random-running",
    "record-done", "sine-cut", "hits", "response", "map", "overlay", "listening", "amplifier-walk-round",
    "amplifier-invalid", "amplifier-noise", "amplifier-sheet",
)  # fmt: skip
"""One of each main view; the story takes more on its way."""


def main() -> None:
    from lucid_anvil.desktop.demo import Story
    from lucid_anvil.lab.demo import fresh_demo

    pictures = Path(__file__).parents[1] / "docs" / "screenshots"
    pictures.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as work:
        lab = fresh_demo(Path(work) / "lab", datetime.date.today())
        made = Path(work) / "pictures"
        made.mkdir()
        story = Story(lab, made, print)
        story.run()
        story.run_shaker()
        story.run_listening()
        story.run_amplifier()
        story.run_shaker_cut()
        story.run_cut()
        story.window.close()
        for old in pictures.glob("*.png"):
            old.unlink()
        for name in KEPT:
            shutil.copyfile(made / f"{name}.png", pictures / f"{name}.png")


if __name__ == "__main__":
    main()
