"""Conversion."""
