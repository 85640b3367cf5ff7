"""Ridges, drawer and what they hold."""
