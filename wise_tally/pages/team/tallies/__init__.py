"""Tallies: asked, computed, drawn, kept."""
