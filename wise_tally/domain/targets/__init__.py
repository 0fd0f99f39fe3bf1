"""Quotas, submitted forecasts, commission statements."""
