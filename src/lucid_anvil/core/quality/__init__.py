"""Limits from data, and the statistics of a batch."""
