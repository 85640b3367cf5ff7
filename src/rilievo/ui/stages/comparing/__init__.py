"""The cards of Compare."""
