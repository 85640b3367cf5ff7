"""Synthetic data with known truth, generated from fixed seeds."""
