"""The manual's reference pages, made from what the methods say of themselves."""

from __future__ import annotations

from . import registry
from .explained import Setting, explained
from .method import Method


def page_of(method: Method) -> str:
    """A method's page as Markdown: what it is for, its channels, settings, readings and curves."""
    lines = [f"# {method.title}", "", f"{method.about}." if method.about else _as_step(method), ""]
    lines += [f"On the command line: `{method.name}`.", "", "## Channels", ""]
    lines += [f"- **{r}** is needed" for r in method.roles]
    lines += [f"- {r} where there is one" for r in method.optional_roles]
    lines += ["- every other channel, under its own name"] if method.more else []
    lines += ["", "## Settings", ""]
    for s in explained(method.Settings):
        lines.append(f"- **{s.name}** (`{s.key}`): {_setting(s)}")
    for title, rows in (("Readings", method.readings), ("Curves", method.curves)):
        if rows:
            lines += ["", f"## {title}", "", *(f"- `{key}`: {text}" for key, text in rows.items())]
    return "\n".join(lines) + "\n"


def _as_step(method: Method) -> str:
    other = registry.get(method.begun_as).title if method.begun_as else ""
    return f"A step of: {other}." if other else "Reads records."


def _setting(s: Setting) -> str:
    kind = " or ".join(s.choices) if s.choices else f"in {s.unit}" if s.unit else s.kind
    usual = "needed" if s.needed else "nothing usual" if s.usual in (None, [], {}, ()) else f"usual: {_plain(s.usual)}"
    meaning = f". {s.meaning}" if s.meaning else ""
    return f"{kind}; {usual}{meaning}"


def _plain(value: object) -> str:
    return {True: "on", False: "off"}.get(value, str(value)) if isinstance(value, bool) else str(value)


def reference() -> dict[str, str]:
    """All reference pages by their file's name."""
    return {f"method-{name}.md": page_of(registry.get(name)) for name in registry.names()}
