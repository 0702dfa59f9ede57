"""Starting the window, and the demo: shown, or performed with no display."""

from __future__ import annotations

import datetime
import os
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from ...core.errors import BadInput
from ...lab.demo import fresh_demo, make_demo
from ...lab.place import Lab, open_lab


def application() -> Any:
    """The one QApplication."""
    from PyQt6.QtWidgets import QApplication

    from ..parts import theme
    from ..parts.background import Tidy

    app = QApplication.instance() or QApplication(sys.argv[:1])
    app.setApplicationName("Lucid Anvil")
    app.setFont(theme.font(10))
    if app.findChild(Tidy) is None:
        Tidy(app)
    return app


def open_window(lab: Lab, known: bool = True) -> int:
    """The window on a lab, until it is closed. `known`: it is one of this user's, and remembered."""
    app = application()
    shown = main_window(lab, known)
    done = int(app.exec())
    del shown
    return done


def open_place(folder: Path | None) -> int:
    """The window on a lab's folder, or a beginning where none is yet: the lab that was open last, or a new one.
    Raises BadInput for a folder that holds other things."""
    from ...lab.beginning import is_free, lately

    if folder is None:
        known = lately()
        folder = known[0] if known else None
    if folder is not None and (folder / "lab.yaml").exists():
        return open_window(open_lab(folder))
    if folder is not None and not is_free(folder):
        raise BadInput(f"{folder}: the folder is not empty and holds no lab: choose another, or an empty one.")
    app = application()
    from .beginning import BeginningWindow

    held: list[Any] = []

    def begun(lab: Lab) -> None:
        held.append(main_window(lab))
        first.close()

    first = BeginningWindow(folder)
    first.begun.connect(begun)
    first.show()
    return int(app.exec())


def main_window(lab: Lab, known: bool = True) -> Any:
    """The main window, shown; its lab is remembered where it is `known` to last."""
    from ...lab.beginning import remember
    from .window import MainWindow

    if known:
        remember(lab.folder)
    shown = MainWindow(lab)
    shown.show()
    return shown


def show_window(folder: Path | None) -> int:
    """The window on a demo lab: a scratch copy, or the one in `folder`, which is taken up again."""
    if folder is not None and (folder / "lab.yaml").exists():
        return open_window(open_lab(folder))
    if folder is not None and folder.exists() and any(folder.iterdir()):
        raise BadInput(f"{folder}: the folder is not empty and holds no lab: choose another.")
    place = folder or Path(tempfile.gettempdir()) / f"lucid-anvil-demo-{os.getuid()}"
    running = (place / "run" / "door.json").exists()
    if folder is None and running:
        from ...engine.launch import find

        if find(place / "run" / "door.json") is not None:
            return open_window(open_lab(place), known=False)
    lab = fresh_demo(place, datetime.date.today()) if folder is None else make_demo(place, datetime.date.today())
    return open_window(lab, known=folder is not None)


def perform_headless(folder: Path, say: Callable[[str], None]) -> int:
    """The demo with no display: calibrate the overdue accelerometer in the real window, accept, and leave lab,
    take, certificate and pictures in `folder`."""
    from .story import Story

    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    if folder.exists() and any(folder.iterdir()) and not (folder / "lab" / "lab.yaml").exists():
        raise BadInput(f"{folder}: it is not empty and holds no demo of ours: choose another folder.")
    folder.mkdir(parents=True, exist_ok=True)
    lab = fresh_demo(folder / "lab", datetime.date.today())
    story = Story(lab, folder, say)
    story.run()
    story.window.close()
    return 0
