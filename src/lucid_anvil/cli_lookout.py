"""The Lookout at the command line: on, off, where it is, and what opens it."""

from __future__ import annotations

import typer

from .cli_shared import say

lookout_app = typer.Typer(help="Runs watched from elsewhere, in a browser; off at first.", no_args_is_help=True)
OK, NOT_THERE = 0, 1


@lookout_app.command("on")
def lookout_on(
    port: int = typer.Option(0, "--port", help="8467 where none is given."),
    host: str = typer.Option("0.0.0.0", "--host", help="127.0.0.1 for this machine alone."),
    certificate: str = typer.Option("", "--certificate", metavar="FILE", help="The house's, PEM; else our own."),
    key: str = typer.Option("", "--key", metavar="FILE"),
) -> int:
    """Turn it on; it goes on until it is turned off."""
    from .lookout.serve import PORT, start

    _tell(start(port or PORT, host, certificate, key))
    return OK


@lookout_app.command("off")
def lookout_off() -> int:
    """Turn it off."""
    from .lookout.serve import stop

    say("The Lookout is off." if stop() else "The Lookout was not on.")
    return OK


@lookout_app.command("status")
def lookout_status() -> int:
    """Where it is and what opens it; 1 where it is off."""
    from .lookout.serve import standing

    found = standing()
    if found is None:
        say("The Lookout is off.")
        return NOT_THERE
    _tell(found)
    return OK


@lookout_app.command("words")
def lookout_words() -> int:
    """Make both words anew: what was handed out no longer opens anything."""
    from .lookout.keys import keys
    from .lookout.serve import standing

    keys(anew=True)
    found = standing()
    if found is not None:
        _tell(found)
    else:
        say("Made anew. The Lookout is off.")
    return OK


def _tell(found) -> None:  # type: ignore[no-untyped-def]
    from pathlib import Path

    from .lookout.certificate import fingerprint
    from .lookout.keys import keys

    say(f"To look: {found.link()}")
    say(f"The word for orders: {keys().act}")
    say(f"Its certificate, SHA-256: {fingerprint(Path(found.certificate))}")
