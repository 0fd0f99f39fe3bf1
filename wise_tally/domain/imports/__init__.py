"""Files that were brought in."""
