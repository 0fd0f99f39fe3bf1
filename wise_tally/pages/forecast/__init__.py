"""Forecast."""
