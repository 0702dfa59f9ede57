"""One picture of each main view, made from the demo, into docs/screenshots."""

from __future__ import annotations

import datetime
import os
import tempfile
from pathlib import Path

os.environ["QT_QPA_PLATFORM"] = "offscreen"


def main() -> None:
    from lucid_anvil.desktop.demo import Story
    from lucid_anvil.lab.demo import fresh_demo

    pictures = Path(__file__).parents[1] / "docs" / "screenshots"
    pictures.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as work:
        lab = fresh_demo(Path(work) / "lab", datetime.date.today())
        story = Story(lab, pictures, print)
        story.run()
        story.run_shaker()
        story.run_listening()
        story.run_shaker_cut()
        story.run_cut()
        story.window.close()


if __name__ == "__main__":
    main()
