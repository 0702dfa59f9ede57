"""What the Lookout answers: one page, what it shows, and the two orders that it takes."""

from __future__ import annotations

import asyncio
import hashlib
import json
import re
from base64 import b64encode
from collections.abc import Callable
from importlib import resources
from typing import Any

from ..core.errors import BadInput
from ..engine import launch
from .keys import Keys, Tries, log, same
from .watching import Watcher

LONGEST = 2048
"""bytes of an order"""
SLOWEST = 5.0
"""s that an order may take to come"""
NOTE = 400
"""signs of a note"""
Answer = tuple[int, Any]


def page() -> tuple[bytes, str]:
    """The page, and which of its own scripts and styles a browser may run: none else, and nothing from elsewhere."""
    text = resources.files("lucid_anvil.lookout").joinpath("page.html").read_text(encoding="utf-8")
    rules = []
    for tag, rule in (("script", "script-src"), ("style", "style-src")):
        own = re.findall(rf"<{tag}>(.*?)</{tag}>", text, re.S)
        sums = " ".join(f"'sha256-{b64encode(hashlib.sha256(s.encode()).digest()).decode()}'" for s in own)
        rules.append(f"{rule} {sums}")
    fixed = "default-src 'none'; connect-src 'self'; img-src data:; base-uri 'none'; form-action 'none'"
    return text.encode(), f"{fixed}; frame-ancestors 'none'; {'; '.join(rules)}"


class Lookout:
    """An ASGI application. Word, host, origin, method and length come before a byte of a body is read; the page itself
    holds nothing of any run."""

    def __init__(self, watcher: Watcher, held: Callable[[], Keys], hosts: set[str]) -> None:
        """`held`: the words in force now; `hosts`: what this machine is called, with its port."""
        self.watcher, self.keys, self.hosts = watcher, held, hosts
        self.tries = Tries()
        self.html, self.rule = page()

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        if scope["type"] == "lifespan":
            return
        if scope["type"] != "http":
            await receive()
            await send({"type": "websocket.close", "code": 4404})
            return
        try:
            status, body = await self.answer(scope, receive)
        except TimeoutError:
            status, body = 408, {"detail": "the order did not come to its end"}
        html = isinstance(body, bytes)
        raw = body if html else json.dumps(body, allow_nan=False).encode()
        kind = b"text/html; charset=utf-8" if html else b"application/json"
        heads = [(b"content-type", kind), (b"content-length", str(len(raw)).encode()), (b"cache-control", b"no-store"),
                 (b"content-security-policy", self.rule.encode()), (b"x-content-type-options", b"nosniff"),
                 (b"referrer-policy", b"no-referrer"), (b"x-frame-options", b"DENY"),
                 (b"cross-origin-resource-policy", b"same-origin")]  # fmt: skip
        if status >= 400:
            heads.append((b"connection", b"close"))
        await send({"type": "http.response.start", "status": status, "headers": heads})
        await send({"type": "http.response.body", "body": raw})

    async def answer(self, scope: Any, receive: Any) -> Answer:
        """Status and what is answered."""
        heads: dict[bytes, bytes] = dict(scope["headers"])
        who = str((scope.get("client") or ("?",))[0])
        host = heads.get(b"host", b"").decode("latin-1").lower()
        origin = heads.get(b"origin")
        method, path = scope["method"], scope["path"]
        if host not in self.hosts:
            return 403, {"detail": "this is not what this machine is called"}
        if origin is not None and origin.decode("latin-1").lower().partition("://")[2] != host:
            log(f"{who} came from a page of {origin.decode('latin-1')}: refused")
            return 403, {"detail": "not for pages from elsewhere"}
        if method == "GET" and path == "/":
            return 200, self.html
        if self.tries.shut(who):
            return 429, {"detail": "too many wrong words: wait a minute"}
        given = heads.get(b"authorization", b"").decode("latin-1").removeprefix("Bearer ").strip()
        wanted = self.keys().look if method == "GET" else self.keys().act
        if not same(given, wanted):
            self.tries.wrong(who)
            log(f"{who} gave a wrong word for {method} {path}")
            return 401, {"detail": "this word is not the right one"}
        if method == "GET" and path == "/seen":
            return 200, self.watcher.shown()
        if method == "POST" and (found := re.fullmatch(r"/(stop|note)/(\d{1,9})", path)):
            return await self._order(found[1], int(found[2]), heads, receive, who)
        return 404, {"detail": "there is nothing here"}

    async def _order(self, name: str, run: int, heads: dict[bytes, bytes], receive: Any, who: str) -> Answer:
        length = heads.get(b"content-length", b"0" if b"transfer-encoding" not in heads else b"")
        if not length.isdigit():
            return 411, {"detail": "say how long the body is"}
        if int(length) > LONGEST:
            return 413, {"detail": f"an order has {LONGEST} bytes at most"}
        try:
            held = json.loads(await asyncio.wait_for(body_of(receive), SLOWEST) or b"{}")
            text = " ".join(str(held.get("text", "")).split())[:NOTE]
        except (ValueError, AttributeError, RecursionError):
            return 422, {"detail": "the order is not understood"}
        if name == "note" and not text:
            return 422, {"detail": "say what the note says"}
        try:
            address = self.watcher.address(run)
            if name == "stop":
                why = f"stopped from the Lookout ({who})" + (f": {text}" if text else "")
                await asyncio.to_thread(launch.order, address, "stop", why=why)
            else:
                await asyncio.to_thread(launch.order, address, "mark", text=f"{text} (from the Lookout)")
        except BadInput as problem:
            return 422, {"detail": str(problem)}
        except OSError as problem:
            return 502, {"detail": f"the run does not answer ({problem})"}
        log(f"{who}: {name} {run} {text}")
        return 200, {"taken": name}


async def body_of(receive: Any) -> bytes:
    """A body, of `LONGEST` bytes at most."""
    made = b""
    while True:
        part = await receive()
        if part["type"] == "http.disconnect":
            raise TimeoutError
        made += part.get("body", b"")
        if len(made) > LONGEST:
            raise ValueError("too long")
        if not part.get("more_body"):
            return made
