"""The Lookout: shut to whoever has no word, open to who has, in a real browser too."""

from __future__ import annotations

import asyncio
import json
import shutil
import ssl
import stat
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest
from PyQt6.QtWidgets import QApplication
from tests.browser import CHROMIUM, Browser
from tests.conftest import Running, short_plan
from tests.test_desktop import until

from lucid_anvil.core.errors import BadInput
from lucid_anvil.desktop.shell.lookout_sheet import LookoutSheet
from lucid_anvil.engine import launch
from lucid_anvil.lab.takes import Take
from lucid_anvil.lookout import keys as keys_
from lucid_anvil.lookout.certificate import fingerprint, own_certificate
from lucid_anvil.lookout.keys import Keys, Tries, keys, log, lookout_folder
from lucid_anvil.lookout.page import Lookout, page
from lucid_anvil.lookout.serve import Standing, standing, start, stop
from lucid_anvil.lookout.warning import Warner
from lucid_anvil.lookout.watching import POINTS, Planned, Seen, Watcher, curve, picture, planned, thinned
from lucid_anvil.protocol.messages import Board, Room, Tile

LONG = {"dwell": "3 s", "start": "125 Hz", "stop": "1000 Hz", "steps_per_octave": 1}
WORDS = Keys("look-word", "act-word")


@pytest.fixture(autouse=True)
def own_folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("LUCID_ANVIL_RUNS", str(tmp_path / "runs"))


@pytest.fixture
def on() -> Iterator[Standing]:
    made = start(port=0, host="127.0.0.1")
    yield made
    stop()


def client(found: Standing) -> httpx.Client:
    trusted = ssl.create_default_context(cafile=found.certificate)
    return httpx.Client(base_url=f"https://127.0.0.1:{found.port}", verify=trusted, trust_env=False, timeout=20)


def bearer(word: str) -> dict[str, str]:
    return {"Authorization": f"Bearer {word}"}


def ask(app: Lookout, method: str, path: str, body: bytes = b"", who: str = "10.0.0.7", **heads: str) -> tuple[int, Any]:
    """One request straight to the application."""
    given = {"host": "bench:8467", "content-length": str(len(body)), **{k.replace("_", "-"): v for k, v in heads.items()}}
    scope = {"type": "http", "method": method, "path": path, "client": (who, 1),
             "headers": [(k.encode(), v.encode()) for k, v in given.items() if v]}  # fmt: skip
    sent: list[dict[str, Any]] = []

    async def receive() -> dict[str, Any]:
        return {"type": "http.request", "body": body, "more_body": False}

    async def send(message: dict[str, Any]) -> None:
        sent.append(message)

    asyncio.run(app(scope, receive, send))
    raw = sent[1]["body"]
    return sent[0]["status"], raw if raw[:1] == b"<" else json.loads(raw)


@pytest.fixture
def app() -> Lookout:
    return Lookout(Watcher(), lambda: WORDS, {"bench:8467"})


# --- shut --------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("method", "path", "heads", "status"), [
    ("GET", "/seen", {}, 401),
    ("GET", "/seen", {"authorization": "Bearer look-wore"}, 401),
    ("GET", "/seen", {"authorization": "Bearer "}, 401),
    ("GET", "/seen", {"authorization": "Bearer act-word"}, 401),
    ("GET", "/seen", {"authorization": "Bearer look-word"}, 200),
    ("GET", "/seen", {"authorization": "Bearer look-word", "host": "elsewhere:8467"}, 403),
    ("GET", "/seen", {"authorization": "Bearer look-word", "host": ""}, 403),
    ("GET", "/", {"host": "elsewhere:8467"}, 403),
    ("GET", "/seen", {"authorization": "Bearer look-word", "origin": "https://evil.example"}, 403),
    ("GET", "/seen", {"authorization": "Bearer look-word", "origin": "null"}, 403),
    ("GET", "/seen", {"authorization": "Bearer look-word", "origin": "https://bench:8467"}, 200),
    ("POST", "/stop/7", {"authorization": "Bearer look-word"}, 401),
    ("POST", "/stop/7", {"authorization": "Bearer act-word", "origin": "https://evil.example"}, 403),
    ("POST", "/stop/7", {"authorization": "Bearer act-word"}, 422),
    ("POST", "/level/7", {"authorization": "Bearer act-word"}, 404),
    ("POST", "/stop/x", {"authorization": "Bearer act-word"}, 404),
    ("DELETE", "/seen", {"authorization": "Bearer look-word"}, 401),
    ("GET", "/keys.json", {"authorization": "Bearer look-word"}, 404),
    ("POST", "/note/7", {"authorization": "Bearer act-word", "content-length": "99999"}, 413),
    ("POST", "/note/7", {"authorization": "Bearer act-word", "content-length": "x"}, 411),
    ("POST", "/note/7", {"authorization": "Bearer act-word", "content-length": "", "transfer-encoding": "chunked"}, 411),
])  # fmt: skip
def test_who_may_come_in(app: Lookout, method: str, path: str, heads: dict[str, str], status: int) -> None:
    assert ask(app, method, path, **{k.replace("-", "_"): v for k, v in heads.items()})[0] == status


@pytest.mark.parametrize("body", [b"[1]", b"nonsense", b'{"text": ' + b"[" * 900, b'{"text": "  "}'])
def test_orders_that_are_none(app: Lookout, body: bytes) -> None:
    assert ask(app, "POST", "/note/7", body, authorization="Bearer act-word")[0] == 422


def test_a_thousand_tries_from_one_place_shut_it_out_and_nobody_else(app: Lookout) -> None:
    said = [ask(app, "GET", "/seen", authorization=f"Bearer {i}")[0] for i in range(1000)]
    assert said[: keys_.WRONG] == [401] * keys_.WRONG and set(said[keys_.WRONG :]) == {429}
    assert ask(app, "GET", "/seen", authorization="Bearer look-word")[0] == 429  # a right one among many is no right one
    assert ask(app, "GET", "/seen", who="10.0.0.8", authorization="Bearer look-word")[0] == 200
    text = (lookout_folder() / "lookout.log").read_text(encoding="utf-8")
    assert text.count("10.0.0.7") == keys_.WRONG and "look-word" not in text
    tries = Tries()
    for i in range(keys_.WRONG):
        tries.wrong("a", float(i))
    assert tries.shut("a", 59.0) and not tries.shut("a", 61.0) and not tries.shut("b", 5.0)
    for i in range(keys_.ADDRESSES + 5):
        tries.wrong(f"x{i}", 0.0)
    assert len(tries.held) == keys_.ADDRESSES and "a" not in tries.held


def test_words_are_their_users_alone_and_the_page_holds_none() -> None:
    first = keys()
    place = lookout_folder() / "keys.json"
    assert keys() == first and stat.S_IMODE(place.stat().st_mode) == 0o600
    assert stat.S_IMODE(lookout_folder().stat().st_mode) == 0o700
    second = keys(anew=True)
    assert second.look != first.look and second.act != first.act and len(second.act.replace("-", "")) == 12
    place.write_text("{", encoding="utf-8")
    assert keys() not in (first, second)
    html, rule = page()
    assert first.look.encode() not in html and "unsafe" not in rule and "default-src 'none'" in rule
    assert html.count(b"<script>") == 1 and b"http://" not in html.replace(b"http://www.w3.org/2000/svg", b"")
    assert b"innerHTML" not in html  # a run's name is text, whatever it holds


def test_the_log_takes_no_line_break_and_begins_anew() -> None:
    log("10.0.0.7 came\n2026-01-01 forged")
    place = lookout_folder() / "lookout.log"
    assert len(place.read_text(encoding="utf-8").splitlines()) == 1
    place.write_text("x" * (keys_.LOG + 1), encoding="utf-8")
    log("anew")
    assert place.stat().st_size < 100 and place.with_suffix(".log.1").exists()


# --- what it shows -----------------------------------------------------------------------------------------------------


def test_a_board_as_a_page_needs_it() -> None:
    board = Board(state="running", title="T", t=40.0, events=[str(i) for i in range(30)], trip={"guard": "x"})
    board.tiles = [Tile("a", "Amplifier", "d", "3 V", "peak", 0.5, 0.9, "drive")]
    board.rooms = [Room("a", "Drive", 0.1, 1, 10, "V", "cut"), Room("b", "Force", 0.9, float("nan"), None, "N", "hold")]
    made = picture(board, Planned(100.0))
    assert made["left"] == 60.0 and made["tripped"] and made["events"] == [str(i) for i in range(22, 30)]
    assert [r["label"] for r in made["rooms"]] == ["Force", "Drive"] and made["rooms"][0]["value"] is None
    assert picture(board, Planned(30.0))["left"] == 0 and picture(board, Planned())["left"] is None
    assert picture(Board(state="done", t=5), Planned(100.0))["left"] is None and planned(Path("/nowhere")) == Planned()
    json.dumps(made, allow_nan=False)


def test_curves_of_every_kind_of_run_are_thinned_and_keep_their_peaks() -> None:
    n = 5000
    y = [1.0] * n
    y[1234] = 9.0
    y[2345] = -3.0
    made = thinned(list(range(n)), {"a": y, "short": [1.0]}, "Hz", "V", False, False)
    assert len(made["x"]) <= POINTS + 2 and {9.0, -3.0} <= set(made["lines"]["a"]) and list(made["lines"]) == ["a"]
    assert (made["x"][0], made["x"][-1]) == (0, n - 1)
    few = thinned([1.0, 2.0], {"a": [None, 3.0]}, "", "", False, False)  # type: ignore[list-item]
    assert few["lines"]["a"] == [None, 3.0]
    gaps = thinned(list(range(n)), {"a": [None] * n}, "", "", False, False)  # type: ignore[list-item]
    assert gaps["x"] == [0, n - 1]
    none = Planned()
    assert curve(Board(), none) is None
    sine = curve(Board(trace={"2": [20.0, 5.0, 1.0], "1": [10.0, 4.0, 1.0]}), none)
    assert sine is not None and sine["x"] == [10.0, 20.0] and sine["lines"]["control"] == [4.0, 5.0] and sine["y_log"]
    random = curve(Board(spectrum={"frequency": [1, 2], "control": [3, 4], "drive": [5, 6]}), none)
    assert random is not None and list(random["lines"]) == ["control"]
    points = curve(Board(points=[{"frequency": 20, "sensitivity": 9.9}, {"frequency": 10, "sensitivity": 9.8}]), none)
    assert points is not None and points["lines"] == {"sensitivity": [9.8, 9.9]} and points["x_log"]
    pulled = curve(Board(live={"curves": {"stress": {"now": [[0.0, 1.0], [0.0, 200.0]]}}}),
                   Planned(None, {"stress": ("Strain, %", "Stress, MPa")}))  # fmt: skip
    assert pulled is not None and pulled["lines"] == {"stress": [0.0, 200.0]} and pulled["y_unit"] == "Stress, MPa"


def test_a_bench_that_is_lost_is_said_since_when(monkeypatch: pytest.MonkeyPatch) -> None:
    watcher = Watcher()
    monkeypatch.setattr(launch, "runs", list)
    now = time.time()
    address = launch.Address(1, "t", 11, "p", "/home/anna/lab/jobs/0412/plan/take-001")
    watcher.seen = {11: Seen(address, now - 60, {"state": "running", "title": "a"}),
                    12: Seen(address, now - 60, {"state": "done", "title": "b"}),
                    13: Seen(address, now - 60, {}),
                    14: Seen(address, now - 60 * 3600, {"state": "failed", "title": "old"})}  # fmt: skip
    watcher.look()
    shown = watcher.shown()["runs"]
    assert [(r["run"], r["lost"], r["ended"]) for r in shown] == [(11, True, False), (12, False, True)]
    assert shown[0]["silent"] == pytest.approx(60, abs=2) and shown[0]["take"] == "plan/take-001"
    with pytest.raises(BadInput, match="not there"):
        watcher.address(11)


def test_whoever_sleeps_is_written_to_once_of_each_thing(tmp_path: Path, demo_lab: Any) -> None:
    from lucid_anvil.lab.editing import put_in

    def rule(on: bool) -> None:
        put_in(demo_lab.folder / "lab.yaml", ("after",), {"to": ["q@own.example"], "warn": on})
        put_in(demo_lab.folder / "lab.yaml", ("mail",), {"server": "localhost", "sender": "bench@own.example"})

    rule(True)
    sent: list[tuple[str, str]] = []
    away = [2]

    def hand_over(_lab: Any, message: Any) -> None:
        if away[0]:
            away[0] -= 1
            raise BadInput("the server is away")
        sent.append((message["Subject"], message.get_content().splitlines()[0]))

    warner = Warner(hand_over, (0.0, 0.0, 0.0))
    now = time.time()
    take = str(demo_lab.jobs / "0412" / "plan" / "take-001")
    base = {"title": "Sine", "state": "running", "tripped": False, "message": None, "events": ["mark at 2 s: a bang"]}

    def seen(heard: float = 0.0, gone: bool = False, **changes: Any) -> Seen:
        return Seen(launch.Address(1, "t", 5, "p", take), now - heard, {**base, **changes}, gone=gone)

    calm = [(1, seen()), (2, seen(20.0)), (3, seen(900.0, state="done")), (4, Seen(launch.Address(1, "t", 5, "p", take)))]
    warner.look(calm, now)
    assert not warner.told
    bad = [(5, seen(tripped=True, message="Stroke at 3 s")), (6, seen(31.0)), (7, seen(2.0, gone=True)),
           (8, seen(state="failed", message="the device is gone"))]  # fmt: skip
    for _ in range(3):
        warner.look(bad, now)
    until(lambda: len(sent) == 4, 30)
    assert sorted(s for s, _t in sent) == ["FAILED: Sine", "NOT HEARD: Sine", "NOT HEARD: Sine", "STOPPED: Sine"]
    assert any(t == "Sine: Stroke at 3 s." for _s, t in sent) and any("nothing was heard of it since" in t for _s, t in sent)
    assert (lookout_folder() / "lookout.log").read_text().count("could not be mailed: the server is away") == 2
    rule(False)
    warner._write(seen(tripped=True), "stopped", "x")  # the lab does not want it
    assert len(sent) == 4


# --- for real ----------------------------------------------------------------------------------------------------------


def test_its_certificate_is_its_own_and_a_wrong_one_is_refused(tmp_path: Path) -> None:
    place, key = own_certificate()
    assert own_certificate() == (place, key) and stat.S_IMODE(key.stat().st_mode) == 0o600
    print_ = fingerprint(place)
    assert len(print_) == 95
    place.write_text("nonsense", encoding="utf-8")
    with pytest.raises(BadInput, match="no certificate"):
        fingerprint(place)
    own_certificate()
    assert fingerprint(place) != print_
    other = tmp_path / "other.key"
    shutil.copyfile(key, other)
    key.unlink()
    own_certificate()
    with pytest.raises(BadInput, match="do not belong together"):
        start(0, "127.0.0.1", str(place), str(other))
    with pytest.raises(BadInput, match="needs its key"):
        start(0, "127.0.0.1", str(place))
    assert standing() is None and not stop()


def test_a_run_is_seen_noted_and_stopped_from_elsewhere(on: Standing, demo_lab: Any, conduct: Callable[..., Running]) -> None:
    running = conduct(short_plan(demo_lab, LONG, {"front_end": {"patience": "3 s"}}), pace="real")
    pid, words = running.address.pid, keys()
    with client(on) as http:
        assert http.get("/").status_code == 200 and "Lookout" in http.get("/").text
        assert http.get("/").headers["content-security-policy"].startswith("default-src 'none'")

        def seen() -> dict[str, Any]:
            found = http.get("/seen", headers=bearer(words.look)).json()["runs"]
            return next((r for r in found if r["run"] == pid), {})

        until(lambda: seen().get("state") == "running" and seen().get("curve") is not None)
        shown = seen()
        assert shown["tiles"] and shown["rooms"] and shown["left"] > 0 and not shown["lost"]
        assert str(demo_lab.folder) not in json.dumps(shown)
        with pytest.raises(BadInput, match="on already"):
            start(0, "127.0.0.1")
        assert http.post(f"/stop/{pid}", headers=bearer(words.look)).status_code == 401
        given = {"text": "a bang\nfrom the article"}
        assert http.post(f"/note/{pid}", headers=bearer(words.act), json=given).status_code == 200
        assert http.post(f"/stop/{pid}", headers=bearer(words.act), json={"text": "it smells"}).status_code == 200
        running.over()
        until(lambda: seen().get("ended") is True)
        until(lambda: Take(running.take).status() != "interrupted")
        kinds = {e["kind"]: e for e in Take(running.take).events()}
        assert kinds["note"]["text"] == "a bang from the article (from the Lookout)"
        assert "stopped from the Lookout (127.0.0.1): it smells" in (Take(running.take).reason() or "")
        keys(anew=True)
        assert http.get("/seen", headers=bearer(words.look)).status_code == 401  # what was handed out is worth nothing now
    with pytest.raises(httpx.ConnectError), httpx.Client(trust_env=False) as plain:
        plain.get(f"https://127.0.0.1:{on.port}/")  # its own certificate is no other's


def test_who_looks_from_elsewhere_is_nobody_at_the_bench(demo_lab: Any, conduct: Callable[..., Running]) -> None:
    running = conduct(short_plan(demo_lab), auto=None)
    heard: list[str] = []
    address = running.address
    running.wait(lambda b: b.state == "walk-round")
    assert launch.get_board(address, quiet=True).state == "walk-round"
    answer = httpx.get(address.url("/glance"), headers=address.headers, trust_env=False)
    assert answer.status_code == 200 and httpx.get(address.url("/glance"), trust_env=False).status_code == 401
    from lucid_anvil.engine.doorman import Room as DoorRoom
    from lucid_anvil.engine.doorman import build_app

    class Wire:
        def send(self, kind: bytes, payload: bytes = b"") -> None:
            heard.append(kind.decode())

    room = DoorRoom(Wire())  # type: ignore[arg-type]
    gate = build_app("t", room, 1)
    heads = {"Authorization": "Bearer t", "Host": "127.0.0.1:1"}

    async def both() -> None:
        async with httpx.AsyncClient(transport=httpx.ASGITransport(app=gate), base_url="http://127.0.0.1:1") as http:
            assert (await http.get("/glance", headers=heads)).status_code == 200
            assert heard == []
            assert (await http.get("/board", headers=heads)).status_code == 200
            assert heard == ["L"]

    asyncio.run(both())


def test_turned_on_and_off_in_the_window(window: Any) -> None:
    window.where.lookout()
    sheet = QApplication.activeModalWidget()
    assert isinstance(sheet, LookoutSheet) and sheet.state.text() == "Off" and not sheet.sign.isVisible()
    sheet.turn.click()
    until(lambda: sheet.state.text() == "On" or sheet.wrong.isVisible(), 60)
    assert sheet.state.text() == "On", sheet.wrong.text()
    first = keys()
    assert first.act in sheet.act.text() and len(sheet.sign.rows) > 20 and standing() is not None
    sheet.copy.click()
    assert QApplication.clipboard().text().endswith(f"#{first.look}")
    sheet.anew.click()
    assert keys().act in sheet.act.text() and keys() != first
    sheet.turn.click()
    until(lambda: sheet.state.text() == "Off")
    assert standing() is None
    sheet.reject()


def test_at_the_command_line(capsys: pytest.CaptureFixture[str]) -> None:
    from typer.testing import CliRunner

    from lucid_anvil.cli import app as cli

    def run(*words: str) -> Any:
        return CliRunner().invoke(cli, ["lookout", *words], standalone_mode=False).return_value

    assert run("status") == 1 and run("off") == 0
    assert run("on", "--port", "18467", "--host", "127.0.0.1") == 0
    try:
        assert run("status") == 0 and run("words") == 0 and standing() is not None
    finally:
        assert run("off") == 0
    assert standing() is None


# --- in a browser ------------------------------------------------------------------------------------------------------

@pytest.mark.skipif(CHROMIUM is None, reason="no browser here: apt-get install chromium")
def test_in_a_real_browser(on: Standing, demo_lab: Any, conduct: Callable[..., Running], tmp_path: Path) -> None:
    running = conduct(short_plan(demo_lab, LONG, {"front_end": {"patience": "3 s"}}), pace="real")
    browser = Browser(tmp_path / "browser", Path(on.certificate))
    try:
        browser.do("Page.navigate", url=f"https://127.0.0.1:{on.port}/")
        until(lambda: "not the right one" in (browser.see("document.getElementById('wrong')?.textContent") or ""), 30)
        assert browser.see("document.querySelectorAll('article').length") == 0
        browser.do("Page.navigate", url="about:blank")
        browser.do("Page.navigate", url=f"https://127.0.0.1:{on.port}/#{keys().look}")
        until(lambda: browser.see("document.querySelector('.word')?.textContent") == "Running", 60)
        until(lambda: browser.see("document.querySelectorAll('canvas').length") == 1, 60)
        inked = ("(() => { const c = document.querySelector('canvas'); const d = c.getContext('2d').getImageData(0, 0,"
                 " c.width, c.height).data; let n = 0; for (let i = 3; i < d.length; i += 4) n += d[i] > 0; return n; })()")
        until(lambda: (browser.see(inked) or 0) > 200, 30)
        assert browser.see("document.documentElement.scrollWidth <= window.innerWidth")
        # Stopped by hand: the stronger word is typed, and a wrong one is refused.
        browser.see("document.querySelector('button.stop').click()")
        for word in ("nonsense", keys().act):
            browser.see(f"document.getElementById('word').value = {word!r}; document.getElementById('yes').click()")
            if word == "nonsense":
                until(lambda: "not the right one" in (browser.see("document.getElementById('refused')?.textContent") or ""), 30)
        running.over()
        assert "stopped from the Lookout" in (Take(running.take).reason() or "")
        until(lambda: browser.see("document.querySelector('.word')?.textContent") in ("Stopped", "Done"), 30)
        stop()
        until(lambda: "No answer since" in (browser.see("document.getElementById('wrong')?.textContent") or ""), 30)
    finally:
        browser.close()
