"""The study in the window: state with undo, focus, measurements, view settings. No widgets."""
