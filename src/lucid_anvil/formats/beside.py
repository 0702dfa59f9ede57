"""What travels beside the samples in formats that have no place of their own for it: labels, units, sensors, notes.

It is JSON in a text field that the format does have; a program that does not know it shows it as a comment.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import Any

from ..contracts.recording import Channel, Recording

MARK = "lucid-anvil"
PLAIN = (str, int, float, bool)


def plain(meta: Mapping[str, Any]) -> dict[str, Any]:
    """The part of a channel's or record's facts that is text and numbers."""
    made = {str(k): v.item() if hasattr(v, "item") else v for k, v in meta.items() if k not in ("format", "full_scale")}
    return {k: v for k, v in made.items() if isinstance(v, PLAIN)}


def text_of(recording: Recording) -> str:
    """All that is known of a record, as one line of text."""
    channels = [{"label": c.label, "unit": c.unit, **plain(c.meta)} for c in recording.channels]
    return json.dumps({MARK: 1, "channels": channels, "record": plain(recording.meta)}, ensure_ascii=True)


def facts_in(text: str | None, count: int) -> tuple[list[dict[str, Any]], dict[str, Any]] | None:
    """Facts by channel and of the record, when a text field holds ours for as many channels; None otherwise."""
    if not text or MARK not in text:
        return None
    try:
        held = json.loads(text[text.index("{") : text.rindex("}") + 1])
    except ValueError:
        return None
    channels: Sequence[Any] = held.get("channels", []) if isinstance(held, dict) and MARK in held else []
    if len(channels) != count or not all(isinstance(c, dict) and "label" in c for c in channels):
        return None
    return [dict(c) for c in channels], dict(held.get("record", {}))


def short(channel: Channel, width: int = 78, lines: int = 3) -> list[str]:
    """Facts of one channel as `key=value` in so many lines of so many characters; what does not fit is left out."""
    made = [""]
    for key, value in plain(channel.meta).items():
        word = f"{key}={value}"
        if len(word) > width or ";" in word:
            continue
        if len(made[-1]) + len(word) + 2 > width:
            if len(made) == lines:
                break
            made.append("")
        made[-1] += ("; " if made[-1] else "") + word
    return [m for m in made if m]


def from_short(lines: Sequence[str]) -> dict[str, Any]:
    """Facts read back from such lines; numbers become numbers."""
    made: dict[str, Any] = {}
    for line in lines:
        for word in line.split(";"):
            key, sign, value = word.strip().partition("=")
            if not sign or not key.isidentifier():
                continue
            try:
                made[key] = float(value)
            except ValueError:
                made[key] = value
    return made
