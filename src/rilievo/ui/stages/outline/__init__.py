"""The stage Outline: region classes, how each is found, clean-up, edits by hand."""
