"""The table of measurements: rows, header with histograms, panel."""
