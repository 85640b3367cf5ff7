"""What is computed for the window, when, in which thread; said by signals. No widgets."""
