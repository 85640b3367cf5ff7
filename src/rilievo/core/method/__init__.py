"""The method as data: steps, region classes, quantities; edited, compared, described, kept."""
