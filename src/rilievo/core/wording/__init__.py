"""Numbers, counts and lists as people read them: the same in window, report and messages."""
