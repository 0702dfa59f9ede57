"""Simulated devices that ship with the program: physics with parameters in the rig file, and faults on demand."""
