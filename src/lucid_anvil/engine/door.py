"""The door: one open interface for all faces. HTTP and WebSocket on loopback, nothing answered without the token."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import queue
import secrets
import socket
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from fastapi import Body, Depends, FastAPI, HTTPException, Request, WebSocket, WebSocketDisconnect

from ..lab.textfiles import whole_write

PUBLISH_EVERY = 0.08
"""s of wall time between two pictures to a face, whatever the pace."""


def build_app(token: str, orders: queue.Queue[dict[str, Any]], board: Callable[[], dict[str, Any]]) -> Any:
    """The FastAPI application. Orders go into the queue; the conductor takes them between blocks."""

    def checked(request: Request) -> None:
        given = request.headers.get("authorization", "").removeprefix("Bearer ").strip()
        if not secrets.compare_digest(given.encode(), token.encode()):
            raise HTTPException(401, "no valid token")

    app = FastAPI(title="Lucid Anvil door", docs_url=None, redoc_url=None, openapi_url=None)
    guarded = [Depends(checked)]

    @app.get("/board", dependencies=guarded)
    def get_board() -> dict[str, Any]:
        return board()

    def order(name: str) -> None:
        async def take(body: dict[str, Any] = Body(default={})) -> dict[str, str]:
            orders.put({"order": name, **body})
            return {"taken": name}

        app.post(f"/{name}", dependencies=guarded)(take)

    for name in (
        "sign",
        "begin",
        "stop",
        "mark",
        "hold",
        "go",
        "level",
        "skip",
        "trigger",
        "slope",
        "overrule",
        "replan",
        "close",
    ):
        order(name)

    @app.websocket("/live")
    async def live(socket_: WebSocket) -> None:
        given = socket_.headers.get("authorization", "").removeprefix("Bearer ").strip()
        if not secrets.compare_digest(given.encode(), token.encode()):
            await socket_.close(4401)
            return
        await socket_.accept()
        last = ""
        with contextlib.suppress(WebSocketDisconnect, ConnectionError):  # the face went away
            while True:
                text = json.dumps(board(), allow_nan=False, default=float)
                if text != last:
                    await socket_.send_text(text)
                    last = text
                await asyncio.sleep(PUBLISH_EVERY)

    return app


class Door:
    """The server in a thread of the conductor, and the note that tells faces where it is."""

    def __init__(self, note: Path, facts: dict[str, Any], board: Callable[[], dict[str, Any]]) -> None:
        import uvicorn

        self.token = secrets.token_urlsafe(24)
        self.orders: queue.Queue[dict[str, Any]] = queue.Queue()
        self.note = note
        self.socket = socket.socket()
        self.socket.bind(("127.0.0.1", 0))
        self.port = self.socket.getsockname()[1]
        app = build_app(self.token, self.orders, board)
        config = uvicorn.Config(app, log_level="error", lifespan="off", ws="websockets-sansio", access_log=False)
        self.server = uvicorn.Server(config)
        self.thread = threading.Thread(target=self._serve, daemon=True)
        self.thread.start()
        while not self.server.started and self.thread.is_alive():
            time.sleep(0.005)
        note.parent.mkdir(parents=True, exist_ok=True)
        whole_write(note, json.dumps({"port": self.port, "token": self.token, "pid": os.getpid(), **facts}))
        os.chmod(note, 0o600)

    def _serve(self) -> None:
        asyncio.run(self.server.serve(sockets=[self.socket]))

    def close(self) -> None:
        with contextlib.suppress(OSError):
            if json.loads(self.note.read_text())["pid"] == os.getpid():
                self.note.unlink()
        self.server.should_exit = True
        self.thread.join(2.0)
