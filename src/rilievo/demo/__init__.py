"""Made-up data with known truth, generated from fixed seeds."""
