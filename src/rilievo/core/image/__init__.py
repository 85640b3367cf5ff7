"""Pixels as they are: planes and samples, histograms, profiles, what a file says of itself."""
