"""The one exception that a person is meant to read."""

from __future__ import annotations


class BadInput(ValueError):
    """Something the user gave can't be used. The message is one sentence: what, where, what to do."""
