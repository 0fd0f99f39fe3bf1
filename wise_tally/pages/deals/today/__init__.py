"""Due today, and the search."""
