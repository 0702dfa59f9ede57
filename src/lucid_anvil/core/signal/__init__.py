"""Signals as arrays: fits, spectra, excitations."""
