"""Attainment."""
