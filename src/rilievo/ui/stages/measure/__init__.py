"""The stage Measure: quantities, batches, derived columns."""
