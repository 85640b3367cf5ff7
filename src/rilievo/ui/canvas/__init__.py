"""The focused picture and what is drawn over it."""
