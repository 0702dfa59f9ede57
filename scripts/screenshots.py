"""One picture of each main view, made from the demo, into docs/screenshots."""

from __future__ import annotations

import datetime
import os
import shutil
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

os.environ["QT_QPA_PLATFORM"] = "offscreen"


KEPT = (
    "ledger", "bench-running", "new-test", "cards", "force", "profile-editor", "sine-running", "trend",
    "warmed", "limits", "tension", "overlay", "settings", "lookout", "amplifier-sheet", "beginning", "hook-up",
    "by-hand", "four-steps",
)  # fmt: skip
"""One of each main view; the story takes more on its way."""


def _beginning(place: Path, lab: Any) -> None:
    """A lab before it is one, beside one that was open lately."""
    from PyQt6.QtWidgets import QApplication

    from lucid_anvil.desktop.shell.beginning import BeginningWindow
    from lucid_anvil.lab.beginning import remember

    os.environ["LUCID_ANVIL_LABS"] = str(place.with_suffix(".json"))
    remember(lab.folder)
    cards = [{"name": "Two-channel interface", "inputs": 2, "outputs": 2}]
    first = BeginningWindow(Path("/home/anna/own-lab"), cards)
    for key, text in {"name": "North Quay Test Lab", "address": "Quay 3, Northhaven", "initials": "A.B."}.items():
        first.fields.boxes[key].setText(text)
    first.resize(1280, 800)
    first.show()
    QApplication.processEvents()
    first.grab().save(str(place))
    first.close()


def _lookout(place: Path, work: Path, old: Path) -> None:
    """Two runs on the Lookout's page; the picture that is there where no browser is."""
    sys.path.insert(0, str(Path(__file__).parents[1]))
    from tests.browser import CHROMIUM, Browser

    from lucid_anvil.engine import launch
    from lucid_anvil.lab.demo import fresh_demo
    from lucid_anvil.lookout.keys import keys
    from lucid_anvil.lookout.serve import start, stop

    if CHROMIUM is None:
        shutil.copyfile(old, place)
        return
    os.environ["LUCID_ANVIL_RUNS"] = str(work / "runs")
    lab = fresh_demo(work / "watched", datetime.date.today())
    on, runs = start(port=0, host="127.0.0.1"), []
    for name, pace in (("battery-tray/sine/sine", "real"), ("mooring-plate/tension/tension", "fast")):
        plan = lab.jobs / "0412" / f"{name}.plan.yaml"
        note = work / f"{plan.stem}.json"
        process = launch.start(plan, None, plan.parent / "take-001", pace, note, "T.T.", work / "log")
        runs.append(launch.wait_for(note, process, 60))
    time.sleep(25)
    launch.order(runs[0], "mark", text="a rattle from the tray")
    browser = Browser(work / "browser", Path(on.certificate))
    browser.do("Page.navigate", url=f"https://127.0.0.1:{on.port}/#{keys().look}")
    time.sleep(4)
    browser.shot(place, 1280, 800)
    browser.close()
    stop()
    for run in runs:
        launch.order(run, "stop", why="pictures taken")
        launch.order(run, "close")


def main() -> None:
    from lucid_anvil.desktop.shell.story import Story
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
        story.run_own()
        story.run_listening()
        story.run_frame()
        story.run_line()
        story.run_warmed()
        story.run_force()
        story.run_amplifier()
        story.run_shaker_cut()
        story.run_cut()
        story.window.close()
        _beginning(made / "beginning.png", lab)
        _lookout(made / "lookout.png", Path(work), pictures / "lookout.png")
        for old in pictures.glob("*.png"):
            old.unlink()
        for name in KEPT:
            shutil.copyfile(made / f"{name}.png", pictures / f"{name}.png")


if __name__ == "__main__":
    main()
