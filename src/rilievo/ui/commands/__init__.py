"""What actions do, grouped by stage. Commands get what they need; they never know the window."""
