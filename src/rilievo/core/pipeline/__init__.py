"""A method applied to a sample: signal, regions, table; checks, previews, origin of a number."""
