"""What stands beyond the ends of a line while it is filtered."""

# Mirrored (d c b a | a b c d | d c b a), or going on with its end, or nothing (0).
MIRRORED, GOES_ON, NOTHING = 0, 1, 2
