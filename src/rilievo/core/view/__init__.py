"""From numbers to what the screen shows: range, stretch, palette, relief. Never measured."""
