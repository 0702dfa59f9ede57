"""Pure computing: arrays in, arrays or frozen dataclasses out. No interface, files, clock or devices."""
