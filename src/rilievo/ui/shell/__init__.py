"""The window itself: its parts put together, laid out and connected."""
