"""Orders on their way to a run: one after the other, a stop before all, and what is refused is said."""

from __future__ import annotations

import json
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest
from tests.test_desktop import until

from lucid_anvil.desktop.parts.link import Link
from lucid_anvil.domains.hookup.window.hand_strip import LevelBar
from lucid_anvil.engine.launch import Address


@pytest.fixture
def door(qapp: Any, tmp_path: Path) -> Any:
    """A door whose first answers are slow, and what came through it in the order of its arrival."""
    came: list[tuple[str, Any]] = []

    class Answer(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            body = json.loads(self.rfile.read(int(self.headers["Content-Length"])))
            time.sleep(max(0.0, 0.3 - 0.1 * float(body.get("level", 3))))
            came.append((self.path, body))
            wrong = self.path == "/level"
            answer = json.dumps({"detail": "nothing is driven"} if wrong else {"ok": "yes"}).encode()
            self.send_response(400 if wrong else 200)
            self.send_header("Content-Length", str(len(answer)))
            self.end_headers()
            self.wfile.write(answer)

        def log_message(self, *_: Any) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Answer)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    link = Link(tmp_path / "door.json")
    link.address = Address(server.server_port, "t", 1, "p", "t")
    yield link, came
    server.shutdown()


def test_orders_arrive_in_the_order_in_which_they_were_given(door: Any) -> None:
    link, came = door
    for level in range(5):
        link.order("drive", level=float(level))
    until(lambda: len(came) == 5)
    assert [body["level"] for _, body in came] == [0.0, 1.0, 2.0, 3.0, 4.0]


def test_a_stop_overtakes_and_what_would_drive_is_forgotten(door: Any) -> None:
    link, came = door
    link.order("drive", level=0.0)
    link.order("drive", level=1.0)
    link.order("mark", text="here")
    link.order("stop", why="now")
    until(lambda: len(came) == 3)
    assert [path for path, _ in came] == ["/stop", "/drive", "/mark"]
    assert not link.waiting


def test_a_refused_order_is_said(door: Any) -> None:
    link, _ = door
    said: list[str] = []
    link.refused.connect(said.append)
    link.order("level", by=3.0)
    until(lambda: bool(said))
    assert said == ["nothing is driven"]


def test_a_level_turned_quickly_adds_up_while_older_looks_come_in(qapp: Any) -> None:
    bar = LevelBar()
    bar.show_level(0.1, 0.1, 1.0)
    for _ in range(4):
        bar.by(3.0)
        bar.show_level(0.1, 0.1, 1.0)  # an older look
    assert bar.wanted == pytest.approx(0.1 * 10**0.6)
    bar.show_level(0.2, bar.wanted, 1.0)
    bar.show_level(0.2, 0.05, 1.0)  # turned down elsewhere
    assert bar.wanted == 0.05
