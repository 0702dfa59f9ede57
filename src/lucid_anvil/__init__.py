"""Lucid Anvil: the bench program of a mechanical and acoustic test engineer."""

__version__ = "0.1.0"
