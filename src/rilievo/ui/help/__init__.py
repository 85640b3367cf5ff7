"""Help inside the window: the guide, the first measurement, shortcuts, versions, the log."""
