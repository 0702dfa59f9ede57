"""The Ledger: sensors and their certificates."""
