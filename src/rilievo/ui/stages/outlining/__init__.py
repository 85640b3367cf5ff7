"""The cards of the Outline stage."""
