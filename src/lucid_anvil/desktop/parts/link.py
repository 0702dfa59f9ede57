"""The line between window and conductor: pictures come over a web socket, orders go by HTTP; nothing blocks."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, QTimer, QUrl, pyqtSignal
from PyQt6.QtNetwork import QNetworkAccessManager, QNetworkReply, QNetworkRequest
from PyQt6.QtWebSockets import QWebSocket

from ...engine import launch
from ...engine.nursery import Started
from ...protocol.messages import Board, board_from


class Link(QObject):
    """Finds a run, follows it, tells when it is gone."""

    board = pyqtSignal(object)
    lost = pyqtSignal(str)
    refused = pyqtSignal(str)
    """What a run says to an order that it does not take"""

    def __init__(self, note: Path) -> None:
        super().__init__()
        self.note = note
        self.address: launch.Address | None = None
        self.process: Started | None = None
        self.socket: QWebSocket | None = None
        self.http = QNetworkAccessManager(self)
        self.latest: Board | None = None
        self.search = QTimer(self)
        self.search.setInterval(80)
        self.search.timeout.connect(self._look)
        self.tries = 0
        self.waiting: list[tuple[str, dict[str, Any]]] = []
        self.under_way: QNetworkReply | None = None

    @property
    def connected(self) -> bool:
        return self.address is not None

    def pick_up(self) -> bool:
        """Connect to a run that is there already."""
        found = launch.find(self.note)
        if found is None:
            return False
        self._connect(found)
        return True

    def start(self, plan: Path, take: Path, pace: str, resume: Path | None = None) -> None:
        """Start a conductor and connect when its door is open."""
        self.drop()
        self.note.parent.mkdir(parents=True, exist_ok=True)
        self.process = launch.start(
            plan, None, take, pace, self.note, None, self.note.with_name("conductor.log"), resume
        )
        self.tries = 0
        self.search.start()

    def _look(self) -> None:
        self.tries += 1
        found = launch.find(self.note)
        # Another run's door may still be open at the same place.
        if found is not None and (self.process is None or found.pid == self.process.pid):
            self.search.stop()
            self._connect(found)
        elif self.tries > 400 or (self.process is not None and self.process.poll() is not None):
            self.search.stop()
            log = self.note.with_name("conductor.log")
            lines = log.read_text(encoding="utf-8", errors="replace").strip().splitlines() if log.exists() else []
            self.lost.emit(f"The run could not be started: {lines[-1] if lines else 'no reason was given'}.")

    def _request(self, url: str) -> QNetworkRequest:
        request = QNetworkRequest(QUrl(url))
        assert self.address
        request.setRawHeader(b"Authorization", f"Bearer {self.address.token}".encode())
        return request

    def _connect(self, address: launch.Address) -> None:
        self.address = address
        self.socket = QWebSocket()
        self.socket.textMessageReceived.connect(self._came)
        self.socket.disconnected.connect(self._gone)
        self.socket.open(self._request(f"ws://127.0.0.1:{address.port}/live"))

    def _came(self, text: str) -> None:
        self.latest = board_from(json.loads(text))
        self.board.emit(self.latest)

    def _gone(self) -> None:
        state = self.latest.state if self.latest else "starting"
        self.address = None
        if state not in ("done", "failed"):
            self.lost.emit("The run is gone; its guards have brought the drive down. The take is kept.")

    def order(self, name: str, **body: Any) -> None:
        """Give an order; an answer is not waited for. Orders arrive in the order in which they were given, but a stop
        overtakes all, and what still waits behind it is forgotten: it might drive on."""
        if self.address is None:
            return
        if name in ("stop", "close"):
            self.waiting = [held for held in self.waiting if held[0] in ("mark", "row")]
            self._post(name, body)
            return
        self.waiting.append((name, body))
        self._next()

    def _next(self) -> None:
        if self.under_way is None and self.waiting and self.address is not None:
            self.under_way = self._post(*self.waiting.pop(0))

    def _post(self, name: str, body: dict[str, Any]) -> QNetworkReply:
        assert self.address
        request = self._request(self.address.url(f"/{name}"))
        request.setHeader(QNetworkRequest.KnownHeaders.ContentTypeHeader, "application/json")
        request.setTransferTimeout(10_000)
        reply: QNetworkReply | None = self.http.post(request, json.dumps(body).encode())
        assert reply
        reply.finished.connect(lambda: self._answered(reply))
        return reply

    def _answered(self, reply: QNetworkReply) -> None:
        status = reply.attribute(QNetworkRequest.Attribute.HttpStatusCodeAttribute)
        if isinstance(status, int) and 400 <= status < 500:
            self.refused.emit(_said(bytes(reply.readAll().data())))
        reply.deleteLater()
        if reply is self.under_way:
            self.under_way = None
            self._next()

    def close_run(self) -> None:
        """Tell a conductor that is over (or has not begun) to end."""
        if self.search.isActive() and self.process is not None:
            # Its door is not open yet; nothing is driven before the walk-round is signed there.
            self.search.stop()
            self.process.terminate()
        self.order("close")

    def drop(self) -> None:
        """Let go of a run without touching it."""
        self.search.stop()
        if self.socket is not None:
            self.socket.disconnected.disconnect(self._gone)
            self.socket.close()
            self.socket = None
        self.address = None
        self.latest = None
        self.waiting.clear()
        self.under_way = None


def _said(answer: bytes) -> str:
    try:
        body = json.loads(answer)
    except ValueError:
        body = answer.decode(errors="replace").strip()
    return str(body.get("detail", body)) if isinstance(body, dict) else str(body)
