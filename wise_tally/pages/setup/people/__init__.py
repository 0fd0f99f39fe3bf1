"""People, their teams and their leaving."""
