"""The door's own process: HTTP and WebSocket on loopback, nothing answered and nothing read without the token.

It holds the last picture of the run and hands orders on; what is done to it, by many, by slow ones or by great bodies,
does not touch the run. Over its line to the run come pictures as JSON text; back go orders, and word that somebody
looks.
"""

from __future__ import annotations

import argparse
import asyncio
import contextlib
import json
import os
import secrets
import socket
import struct
import threading
import time
from typing import Any

from fastapi import FastAPI, HTTPException, Request, Response, WebSocket, WebSocketDisconnect

from ..core.errors import BadInput
from ..protocol.orders import ORDERS, order_of
from ..rig.device import Wire, wire_from_fd

PUBLISH_EVERY = 0.08
"""s of wall time between two pictures to a face, whatever the pace."""
LONGEST = 4096
"""bytes that an order may have"""
SLOWEST = 5.0
"""s within which an order's body must have come"""
LOOKED_EVERY = 0.5
"""s between two words to the run that somebody looks"""


class Room:
    """What the door's process keeps: the last picture, and the line."""

    def __init__(self, wire: Wire) -> None:
        self.wire = wire
        self.picture = "{}"
        self.told = 0.0

    def look(self) -> str:
        """The picture, and the sign that there is somebody."""
        now = time.monotonic()
        if now - self.told > LOOKED_EVERY:
            self.told = now
            with contextlib.suppress(OSError):
                self.wire.send(b"L")
        return self.picture

    def hear(self) -> None:
        """Take pictures until the run is gone; then so are we."""
        with contextlib.suppress(EOFError, OSError):
            while True:
                kind, payload = self.wire.receive()
                if kind == b"Q":
                    time.sleep(0.3)  # the answer to the order that ended it goes out first
                    break
                self.picture = payload.decode()
        os._exit(0)


class Gate:
    """Token, host, origin, method and length, before a byte of a body is read."""

    def __init__(self, app: Any, token: str, port: int) -> None:
        self.app, self.token = app, token.encode()
        self.hosts = {f"127.0.0.1:{port}".encode(), f"localhost:{port}".encode()}

    def refused(self, scope: Any) -> tuple[int, str] | None:
        """Status and sentence, or None where it may come in."""
        heads: dict[bytes, bytes] = dict(scope["headers"])
        given = heads.get(b"authorization", b"").removeprefix(b"Bearer ").strip()
        if not secrets.compare_digest(given, self.token):
            return 401, "no valid token"
        if heads.get(b"host", b"") not in self.hosts:
            return 403, "this door is for this machine alone"
        if heads.get(b"origin") is not None:
            return 403, "this door is not for pages from elsewhere"
        if scope["type"] == "http" and scope["method"] not in ("GET", "POST"):
            return 405, "use GET or POST"
        if scope["type"] == "http" and scope["method"] == "POST":
            length = heads.get(b"content-length", b"0" if b"transfer-encoding" not in heads else b"")
            if not length.isdigit():
                return 411, "say how long the body is"
            if int(length) > LONGEST:
                return 413, f"an order has {LONGEST} bytes at most"
        return None

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        if scope["type"] not in ("http", "websocket"):
            await self.app(scope, receive, send)
            return
        why = self.refused(scope)
        if why is None:
            await self.app(scope, receive, send)
        elif scope["type"] == "websocket":
            await receive()
            await send({"type": "websocket.close", "code": 4000 + why[0]})
        else:
            body = json.dumps({"detail": why[1]}).encode()
            heads = [(b"content-type", b"application/json"), (b"content-length", str(len(body)).encode()),
                     (b"connection", b"close")]  # fmt: skip
            await send({"type": "http.response.start", "status": why[0], "headers": heads})
            await send({"type": "http.response.body", "body": body})


def build_app(token: str, room: Room, port: int) -> Gate:
    """The application behind its gate."""
    app = FastAPI(title="Lucid Anvil door", docs_url=None, redoc_url=None, openapi_url=None)

    @app.get("/board")
    async def get_board() -> Response:
        return Response(room.look(), media_type="application/json")

    @app.get("/glance")
    async def glance() -> Response:
        # From elsewhere: it sees the same, but nobody stands at the bench because of it.
        return Response(room.picture, media_type="application/json")

    @app.post("/{name}")
    async def order(name: str, request: Request) -> dict[str, str]:
        if name not in ORDERS:
            raise HTTPException(404, f"there is no order '{name}'")
        try:
            held = await asyncio.wait_for(request.body(), SLOWEST)
            made = order_of(name, json.loads(held) if held.strip() else {})
        except TimeoutError:
            raise HTTPException(408, "the order did not come to its end") from None
        except (ValueError, RecursionError):
            raise HTTPException(422, "the order is not JSON") from None
        except BadInput as problem:
            raise HTTPException(422, str(problem)) from None
        room.wire.send_json(b"O", made)
        return {"taken": name}

    @app.websocket("/live")
    async def live(socket_: WebSocket) -> None:
        await socket_.accept()
        last = ""
        with contextlib.suppress(WebSocketDisconnect, ConnectionError, RuntimeError):  # the face went away
            while True:
                text = room.look()
                if text != last:
                    await asyncio.wait_for(socket_.send_text(text), SLOWEST)
                    last = text
                await asyncio.sleep(PUBLISH_EVERY)

    return Gate(app, token, port)


def main() -> None:
    """The token comes over the line, never by the command: others can read that."""
    import uvicorn

    parser = argparse.ArgumentParser()
    parser.add_argument("--fd", type=int, required=True)
    given = parser.parse_args()
    with contextlib.suppress(OSError):
        os.nice(10)
    wire = wire_from_fd(given.fd)
    token = wire.receive()[1].decode()
    room = Room(wire)
    listening = socket.socket()
    listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    listening.bind(("127.0.0.1", 0))
    port = listening.getsockname()[1]
    config = uvicorn.Config(
        build_app(token, room, port), log_level="critical", lifespan="off", ws="websockets-sansio", access_log=False,
        ws_max_size=LONGEST, timeout_keep_alive=5, h11_max_incomplete_event_size=LONGEST * 4,
    )  # fmt: skip
    server = uvicorn.Server(config)

    async def serve() -> None:
        task = asyncio.create_task(server.serve(sockets=[listening]))
        while not server.started and not task.done():
            await asyncio.sleep(0.005)
        wire.send(b"P", struct.pack("<I", port))
        threading.Thread(target=room.hear, daemon=True).start()
        await task

    asyncio.run(serve())


if __name__ == "__main__":
    main()
