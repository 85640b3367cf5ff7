"""What `import rilievo` gives to notebooks and scripts: samples, regions, batches, comparisons.

    regions    one sample: its signal, its regions, its measurements
    batch      many samples: `measure_batch`, and its results as tables
    comparing  groups side by side: numbers, sentences, figures, a report

These are thin: the computation is in `rilievo.core`, and gives the same bits.
"""
