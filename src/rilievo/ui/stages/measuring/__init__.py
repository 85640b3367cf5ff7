"""The cards of Measure."""
