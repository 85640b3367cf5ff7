"""Measurements as columns and rows: identity, compartments, derived columns, files."""
