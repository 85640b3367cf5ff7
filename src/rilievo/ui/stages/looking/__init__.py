"""The cards of the stage Look, one a module."""
