"""The stage Look: what the sample is, how it is shown, what is wrong with it."""
