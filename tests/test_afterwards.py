"""What becomes of a take when nobody is there: papers by a rule, a mail through TLS that says the worst first."""

from __future__ import annotations

import datetime
import email.policy
import socket
import ssl
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from email.message import EmailMessage
from ipaddress import ip_address
from pathlib import Path
from typing import Any

import keyring
import keyring.backend
import keyring.backends.fail
import openpyxl
import pytest
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID
from PyQt6.QtWidgets import QApplication
from tests.test_desktop import leave, until

from lucid_anvil.cli import app
from lucid_anvil.contracts.settings import check
from lucid_anvil.core.errors import BadInput
from lucid_anvil.desktop.bench.after_sheet import AfterWatch
from lucid_anvil.desktop.shell import window as window_module
from lucid_anvil.desktop.shell.window import MainWindow
from lucid_anvil.engine import ending
from lucid_anvil.engine.newplan import begin_plan
from lucid_anvil.folio import afterwards
from lucid_anvil.folio.afterwards import after_take, trial
from lucid_anvil.lab.afterrules import PASSWORD, as_rules, file_name
from lucid_anvil.lab.beginning import begin_lab
from lucid_anvil.lab.editing import put, put_in
from lucid_anvil.lab.place import Lab, LabFacts, open_lab
from lucid_anvil.lab.takes import Take, begin_take

TYPED = {"folder": "papers", "name": "{date} {article} {verdict}", "formats": "csv, pdf xlsx", "to": "q@own.example",
         "server": "localhost", "port": "465", "tls": "from the start", "user": "bench", "sender": "bench@own.example",
         "authority": "own.pem"}  # fmt: skip


@dataclass
class Office:
    """A mail server of the house, and what came in."""

    port: int
    authority: Path
    tls: str
    mails: list[EmailMessage] = field(default_factory=list)

    async def handle_DATA(self, _server: Any, _session: Any, envelope: Any) -> str:
        made = email.message_from_bytes(envelope.content, policy=email.policy.default)
        assert isinstance(made, EmailMessage)
        self.mails.append(made)
        return "250 taken"


def own_authority(folder: Path) -> tuple[Path, ssl.SSLContext]:
    """A certificate for localhost that nobody else signed, and a server's context with it."""
    key, now = ec.generate_private_key(ec.SECP256R1()), datetime.datetime.now(datetime.UTC)
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "localhost")])
    names = [x509.DNSName("localhost"), x509.IPAddress(ip_address("127.0.0.1"))]
    made = (
        x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key())
        .serial_number(x509.random_serial_number()).not_valid_before(now - datetime.timedelta(days=1))
        .not_valid_after(now + datetime.timedelta(days=9))
        .add_extension(x509.SubjectAlternativeName(names), False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), True).sign(key, hashes.SHA256())
    )  # fmt: skip
    public, private = folder / "own.pem", folder / "own.key"
    public.write_bytes(made.public_bytes(serialization.Encoding.PEM))
    private.write_bytes(
        key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    )
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(public, private)
    return public, context


@pytest.fixture(params=["from the start", "starttls"])
def office(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Office]:
    authority, context = own_authority(tmp_path)
    held = Office(0, authority, request.param)

    def authenticator(_server: Any, _session: Any, _envelope: Any, _mechanism: str, data: Any) -> AuthResult:
        return AuthResult(success=(data.login, data.password) == (b"bench", b"Kestrel-7"), handled=False)

    tls: dict[str, Any] = {"tls_context": context, "require_starttls": True}
    if request.param == "from the start":
        tls = {"ssl_context": context, "auth_require_tls": False}
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        held.port = free.getsockname()[1]
    server = Controller(held, "127.0.0.1", held.port, authenticator=authenticator, auth_required=True, **tls)
    server.start()
    yield held
    server.stop()


ONE_OFFICE = pytest.mark.parametrize("office", ["starttls"], indirect=True)
"""One way of TLS is enough where the mail is not what is tried"""


def lab_with(tmp_path: Path, office: Office, **typed: str) -> Lab:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", True)
    given = {**TYPED, "port": str(office.port), "tls": office.tls, "authority": str(office.authority), **typed}
    for key, held in zip(("after", "mail"), as_rules(given), strict=True):
        put_in(lab.folder / "lab.yaml", [key], held)
    return open_lab(lab.folder)


def stepped(lab: Lab, most: float = 99.0, job: str = "0413") -> Path:
    """A plan of 2 × 11 steps of the stand-in actuator."""
    rig = lab.folder / "rigs" / "actuator.rig.yaml"
    plan = begin_plan("step-hysteresis", rig, "Valve 7", lab.jobs / job / "steps.plan.yaml", lab=lab)
    course = {"from": 0, "to": "8 V", "steps": 11, "settle": "1 s", "read": "0.2 s", "ramp": "8 V/s"}
    for key, held in (("course", course), ("limits", {"hysteresis": {"high": most}})):
        put(plan, (key,), held)
    return plan


def told(take: Path, timeout: float = 90.0) -> dict[str, Any]:
    """What a take says of its papers and mail, once it says it."""
    until = time.monotonic() + timeout
    while time.monotonic() < until:
        for event in Take(take).events():
            if event["kind"] == "after":
                return event
        time.sleep(0.1)
    raise AssertionError(f"nothing was told of {take} in {timeout} s")


def test_a_run_that_nobody_looks_at_is_saved_and_mailed_with_its_fails_first(
    tmp_path: Path, office: Office, conduct: Callable[..., Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv(PASSWORD, "Kestrel-7")
    lab = lab_with(tmp_path, office)
    running = conduct(stepped(lab, most=0.1), name="take-a")
    assert running.over().verdict == "outside"
    event = told(running.take)
    assert event["undone"] == [] and event["mailed"] == ["q@own.example"]
    names = [Path(p).name for p in event["saved"]]
    assert [n.split(".")[-1] for n in names] == ["pdf", "csv", "xlsx"] and names[0].endswith("Valve-7-outside.pdf")
    pdf, csv, xlsx = (lab.folder / "papers" / n for n in names)
    assert pdf.read_bytes()[:5] == b"%PDF-" and "Valve 7" in csv.read_text()
    assert openpyxl.load_workbook(xlsx).sheetnames[0] == "Readings"
    (mail,) = office.mails
    assert (mail["To"], mail["From"]) == ("q@own.example", "bench@own.example")
    assert mail["Subject"].startswith("OUTSIDE: Valve 7")
    text, paper = mail.get_body(("plain",)), list(mail.iter_attachments())
    assert text is not None and text.get_content().splitlines()[0].startswith("Outside: Hysteresis ")
    assert [p.get_filename() for p in paper] == [names[0]] and paper[0].get_content()[:5] == b"%PDF-"


@ONE_OFFICE
def test_each_part_is_done_whatever_becomes_of_the_other(
    tmp_path: Path, office: Office, conduct: Callable[..., Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv(PASSWORD, "wrong")
    lab = lab_with(tmp_path, office, folder="/not/there/now")
    running = conduct(stepped(lab), name="take-b")
    assert running.over().verdict == "inside"
    event = told(running.take)
    assert event["saved"] == [] and event["mailed"] == [] and office.mails == []
    assert "connect it" in event["undone"][0] and "does not take the password of bench" in event["undone"][1]
    # What is mended is done again, and papers that are there stay as they are.
    monkeypatch.setenv(PASSWORD, "Kestrel-7")
    put_in(lab.folder / "lab.yaml", ["after", "folder"], "papers")
    lab, take = open_lab(lab.folder), Take(running.take)
    first, second = after_take(lab, take), after_take(lab, take)
    assert first.undone == second.undone == () and not set(first.saved) & set(second.saved)
    assert len(office.mails) == 2 and office.mails[0]["Subject"].startswith("inside: Valve 7")
    body = office.mails[0].get_body(("plain",))
    assert body is not None and body.get_content().startswith("All is inside its limits.")
    # Tried anew by itself: once there is a server, and what was saved is not saved twice.
    held = len(list((lab.folder / "papers").iterdir()))
    put_in(lab.folder / "lab.yaml", ["mail", "port"], 1)
    tries: list[float] = []

    def pause(seconds: float) -> None:
        tries.append(seconds)
        if len(tries) == 2:
            put_in(lab.folder / "lab.yaml", ["mail", "port"], office.port)

    monkeypatch.setattr(afterwards.time, "sleep", pause)
    third = after_take(open_lab(lab.folder), take, (1.0, 2.0, 3.0))
    assert tries == [1.0, 2.0] and third.undone == () and len(office.mails) == 3
    assert len(list((lab.folder / "papers").iterdir())) == held + len(third.saved) == held + len(first.saved)
    assert [bool(e["undone"]) for e in take.events() if e["kind"] == "after"][-3:] == [True, True, False]
    # A record that is another one now is nothing to be told "inside" of, whatever was read of it before.
    with (take.folder / "raw.h5").open("ab") as raw:
        raw.write(b"x")
    third = after_take(lab, take)
    body = office.mails[-1].get_body(("plain",))
    assert office.mails[-1]["Subject"].startswith("OPEN: ") and "open" in third.saved[0].name
    assert body is not None and body.get_content().startswith("Not complete: ")
    app(["export", str(take.folder), str(tmp_path / "by hand.csv")], standalone_mode=False)
    for table in (tmp_path / "by hand.csv", third.saved[1]):
        assert "verdict,open" in table.read_text() and "its hash differs" in table.read_text()


@ONE_OFFICE
def test_a_run_that_was_stopped_says_so_first(
    tmp_path: Path, office: Office, conduct: Callable[..., Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    from lucid_anvil.engine import launch

    monkeypatch.setenv(PASSWORD, "Kestrel-7")
    lab = lab_with(tmp_path, office, folder="")
    running = conduct(stepped(lab), name="take-c")
    running.wait(lambda b: b.state == "running" and b.t > 3)
    launch.order(running.address, "stop", why="the valve leaks")
    running.over()
    assert told(running.take)["mailed"]
    (mail,) = office.mails
    body = mail.get_body(("plain",))
    assert mail["Subject"].startswith("CUT: ") and body is not None
    assert body.get_content().splitlines()[0].startswith("The run was not done but cut: the valve leaks")


def test_nothing_is_sent_to_a_server_that_nobody_vouches_for(
    tmp_path: Path, office: Office, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv(PASSWORD, "Kestrel-7")
    lab = lab_with(tmp_path, office, authority="")
    with pytest.raises(BadInput, match="can't be trusted"):
        trial(lab)
    assert office.mails == []
    put_in(lab.folder / "lab.yaml", ["mail", "authority"], str(office.authority))
    assert "q@own.example" in trial(open_lab(lab.folder)) and office.mails[0]["Subject"] == "Trial mail of Bench of one"


class Ring(keyring.backend.KeyringBackend):
    """A keyring in memory."""

    priority = 1  # type: ignore[assignment]

    def __init__(self) -> None:
        super().__init__()
        self.held: dict[tuple[str, str], str] = {}

    def get_password(self, service: str, username: str) -> str | None:
        return self.held.get((service, username))

    def set_password(self, service: str, username: str, password: str) -> None:
        self.held[service, username] = password


@ONE_OFFICE
def test_rules_are_typed_in_the_window_and_the_password_goes_into_the_keyring(
    qapp: Any, tmp_path: Path, office: Office, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.delenv(PASSWORD, raising=False)
    before, ring = keyring.get_keyring(), Ring()
    keyring.set_keyring(ring)
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", False)
    window = MainWindow(lab)
    window.show()
    try:
        window.where.after_each()
        sheet = QApplication.activeModalWidget()
        for key, text in {
            **TYPED,
            "name": "{datum}",
            "port": str(office.port),
            "authority": str(office.authority),
        }.items():
            box = sheet.fields.boxes[key]
            box.setCurrentText(office.tls) if key == "tls" else box.setText(text)
        sheet.fields.boxes["password"].setText("Kestrel-7")
        sheet.done_with()
        assert "'{datum}' is not known" in sheet.wrong.text()
        sheet.fields.boxes["name"].setText("{date} {article}")
        sheet.done_with()
        until(lambda: bool(window_module.OPENED))
        kept = open_lab(lab.folder)
        assert kept.facts.after is not None and kept.facts.after.formats == ["csv", "pdf", "xlsx"]
        assert "Kestrel" not in (lab.folder / "lab.yaml").read_text() and "Kestrel-7" in ring.held.values()
        assert trial(kept) and len(office.mails) == 1
        ring.held.clear()
        with pytest.raises(BadInput, match="not in the keyring"):
            trial(kept)
        keyring.set_keyring(keyring.backends.fail.Keyring())
        with pytest.raises(BadInput, match="can't be had of the keyring"):
            trial(kept)
    finally:
        keyring.set_keyring(before)
        leave(window_module.OPENED.pop() if window_module.OPENED else window)


def test_the_window_says_what_became_of_a_take(qapp: Any, tmp_path: Path) -> None:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", True)
    put_in(lab.folder / "lab.yaml", ["after"], as_rules(TYPED)[0])
    lab = open_lab(lab.folder)
    plan = stepped(lab)
    take = begin_take(plan.parent / "take-1", plan.read_text(), (lab.folder / "rigs" / "actuator.rig.yaml").read_text())
    (take.folder / "events.jsonl").touch()
    watch, heard = AfterWatch(qapp), []
    watch.said.connect(heard.append)
    watch.wait_for(lab, take)
    made = after_take(lab, take)
    until(lambda: bool(heard))
    assert heard == [made.sentence]
    assert "it has no finding" in heard[0] and "the lab has no mail server" in heard[0]


@pytest.mark.parametrize(
    ("typed", "why"),
    [({"port": "x"}, "whole number"), ({"server": ""}, "needs a server"), ({"formats": " "}, "one or more of pdf"),
     ({"to": "nobody"}, "not an address"), ({"formats": "doc"}, "formats"), ({"name": "{/}"}, "not known"),
     ({"name": "//"}, "empty"), ({"sender": "bench"}, "not an address"), ({"port": "70000"}, "port")],
)  # fmt: skip
def test_rules_that_can_not_be_followed_are_refused(tmp_path: Path, typed: dict[str, str], why: str) -> None:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", False)
    with pytest.raises(BadInput, match=why):
        after, mail = as_rules({**TYPED, **typed})
        check(LabFacts, {"name": lab.facts.name, "after": after, "mail": mail}, "After each take")


def test_what_no_file_system_takes_is_a_dash_in_a_name() -> None:
    filled = file_name(
        "{date} {article}/{verdict}", {"date": "2026-11-30", "article": "../Valve: 7 µ", "verdict": "inside"}
    )
    assert filled == "2026-11-30-..-Valve-7-µ-inside"


def test_papers_that_can_not_be_begun_are_said(tmp_path: Path) -> None:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", False)
    take = lab.jobs / "0413" / "take-1"
    assert ending.set_off(take) == []
    with (lab.folder / "lab.yaml").open("a") as file:
        file.write("after: {formats: [doc]}\n")
    (said,) = ending.set_off(take)
    assert "not begun" in said and f"lucid-anvil after {take}" in said


def test_checks_of_the_bench_are_not_mailed(tmp_path: Path) -> None:
    lab = begin_lab(tmp_path / "own", "Bench of one", [], "K.B.", False)
    assert not lab.wants_after(lab.jobs / "0413" / "take-1")
    put_in(lab.folder / "lab.yaml", ["after"], as_rules(TYPED)[0])
    lab = open_lab(lab.folder)
    wanted = {"0413/take-1": True, "bench/take-1": False, "hook-up/a/take-1": False, "../elsewhere/take-1": False}
    assert {k: lab.wants_after(lab.jobs / k) for k in wanted} == wanted
