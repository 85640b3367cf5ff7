"""Arithmetic on the signal: filters, backgrounds, curves, and the registered steps in `steps`."""
