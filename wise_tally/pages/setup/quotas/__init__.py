"""The quota plan."""
