"""Lucid Anvil: the bench program of a mechanical and acoustic test engineer."""

import os

# Looking for plugins costs every start a twentieth of a second, and there are none.
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")

__version__ = "0.1.0"
