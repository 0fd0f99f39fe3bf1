"""Setup."""
