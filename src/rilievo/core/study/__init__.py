"""The study: samples, groups, method and views as one immutable state, and its file."""
