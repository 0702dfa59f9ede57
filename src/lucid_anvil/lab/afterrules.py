"""What a lab wants done after each take without anybody asking: papers saved by a rule, and a mail. In lab.yaml as
`after` and `mail`; the password of the mail server is in the keyring or the environment, never in a file."""

from __future__ import annotations

import os
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any, Literal

from pydantic import Field, field_validator

from ..contracts.settings import Flag, Model
from ..core.errors import BadInput

FIELDS = ("date", "time", "job", "title", "article", "serial", "method", "take", "verdict")
"""What a name may be made of"""
FORMATS = ("pdf", "csv", "xlsx")
SERVICE = "lucid-anvil mail"
"""What the keyring calls it"""
PASSWORD = "LUCID_ANVIL_MAIL_PASSWORD"
"""The environment's word for it, which goes first"""
ADDRESS = re.compile(r"[^@\s,;<>]+@[^@\s,;<>]+")


class After(Model):
    """What becomes of a take by itself."""

    folder: str = ""
    """Where papers go, from the lab's folder; empty: nowhere"""
    name: str = "{date} {article} {method} {verdict}"
    formats: list[Literal["pdf", "csv", "xlsx"]] = ["pdf"]
    to: list[str] = Field(default_factory=list)
    """Who gets a mail"""
    warn: Flag = False
    """Whether they get one while a run goes on too, when it is stopped or no longer heard; the Lookout must be on"""

    @field_validator("name")
    @classmethod
    def _known(cls, name: str) -> str:
        for field in re.findall(r"\{([^{}]*)\}", name):
            if field not in FIELDS:
                raise ValueError(f"'{{{field}}}' is not known: a name is made of {', '.join(FIELDS)} in braces")
        if not file_name(name, dict.fromkeys(FIELDS, "x")):
            raise ValueError("it is empty: write such as '{date} {article}'")
        return name

    @field_validator("to")
    @classmethod
    def _addresses(cls, to: list[str]) -> list[str]:
        for address in to:
            if not ADDRESS.fullmatch(address):
                raise ValueError(f"'{address}' is not an address: write such as bench@example.org")
        return to


class Mail(Model):
    """The server that takes the lab's mail. It is only spoken to through TLS."""

    server: str
    port: int = Field(default=465, ge=1, le=65535)
    tls: Literal["from the start", "starttls"] = "from the start"
    user: str = ""
    """Empty: it asks for no password"""
    sender: str
    authority: str = ""
    """File of the certificate authority, where the server's is the house's own"""

    @field_validator("sender")
    @classmethod
    def _address(cls, sender: str) -> str:
        if not ADDRESS.fullmatch(sender):
            raise ValueError(f"'{sender}' is not an address: write such as bench@example.org")
        return sender


def file_name(rule: str, values: Mapping[str, str]) -> str:
    """A rule with its fields filled in, as a file's name without its ending: what a file system or another system
    minds is a dash."""
    filled = re.sub(r"\{([^{}]*)\}", lambda m: values.get(m[1], ""), rule)
    return re.sub(r"-{2,}", "-", re.sub(r"[^\w.()+-]+", "-", filled)).strip("-.")[:150]


def free_stem(folder: Path, stem: str, endings: tuple[str, ...]) -> str:
    """A name of which none of the files is there yet: papers that are there stay as they are."""
    count, tried = 1, stem
    while any((folder / f"{tried}.{e}").exists() for e in endings):
        count += 1
        tried = f"{stem}-{count}"
    return tried


def password_of(mail: Mail) -> str:
    """Its password: of the environment, else of the keyring. Raises BadInput where neither has it."""
    if PASSWORD in os.environ:
        return os.environ[PASSWORD]
    import keyring
    from keyring.errors import KeyringError

    where = f"The password of {mail.user} at {mail.server}"
    try:
        held = keyring.get_password(SERVICE, f"{mail.user}@{mail.server}")
    except KeyringError as problem:
        raise BadInput(f"{where} can't be had of the keyring ({problem}): set {PASSWORD}.") from None
    if held is None:
        raise BadInput(f"{where} is not in the keyring: type it under 'After each take', or set {PASSWORD}.")
    return held


def keep_password(mail: Mail, password: str) -> None:
    """Put it into the keyring. Raises BadInput where there is none."""
    import keyring
    from keyring.errors import KeyringError

    try:
        keyring.set_password(SERVICE, f"{mail.user}@{mail.server}", password)
    except KeyringError as problem:
        raise BadInput(
            f"The keyring does not take the password ({problem}): set {PASSWORD} where the program is started."
        ) from None


def as_rules(typed: Mapping[str, str]) -> tuple[dict[str, Any], dict[str, Any]]:
    """`after` and `mail` as lab.yaml has them, of what was typed; empty ones are none."""
    words = {k: re.split(r"[,;\s]+", typed[k].strip()) if typed[k].strip() else [] for k in ("formats", "to")}
    after: dict[str, Any] = {"folder": typed["folder"].strip(), "name": typed["name"].strip(), **words}
    if typed.get("warn", "no") == "yes":
        after["warn"] = True
    mail: dict[str, Any] = {k: typed[k].strip() for k in ("server", "port", "tls", "user", "sender", "authority")}
    if not mail["port"].isdigit():
        raise BadInput(f"Port: '{mail['port']}' is not a whole number: write 465, or 587 for starttls.")
    mail["port"] = int(mail["port"])
    if not mail["server"]:
        if after["to"]:
            raise BadInput("A mail needs a server: fill in Server and Sender, or leave 'Mail to' empty.")
        mail = {}
    if not after["folder"] and not after["to"]:
        after = {}
    elif after["folder"] and not after["formats"]:
        raise BadInput(f"Formats: write one or more of {', '.join(FORMATS)}.")
    return after, mail
