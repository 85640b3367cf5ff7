"""What NAME adds to Rilievo."""
